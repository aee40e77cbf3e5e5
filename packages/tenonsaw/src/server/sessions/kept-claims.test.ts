import { beforeEach, describe, expect, it } from "vitest";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import {
  createFakeWorld,
  issuer,
  noon,
  openFakeProvider,
  type FakeAnswer,
  type FakeWorld,
} from "../../../../../tests/support/fake-world.js";
import { startApp } from "../../../../../tests/support/start-app.js";
import type { Renewed } from "../../connection/index.js";
import type { ProviderSettings } from "../../provider/index.js";
import type { ConnectionRecord } from "../../session/index.js";
import { createMemoryStore } from "../../stores/memory.js";
import type { Context } from "../context/context.js";
import { renewClaims } from "./kept-claims.js";

const subject = "qs-10231";
const before = { roles: ["harbour-master"], tenant: "ferrywell" };
const sessionClaims = { roles: "/roles", tenant: ["/tid", "/club"] };
const connection = {
  id: "c1",
  sessionId: "s1",
  personId: "p1",
  provider: "quayside",
  subject,
} as ConnectionRecord;
let world: FakeWorld;
let reported: string[];

beforeEach(() => {
  world = createFakeWorld();
  reported = [];
});

/** What the session holds after a refresh that brought this. */
async function after(
  brought: Partial<Renewed>,
  userinfo?: FakeAnswer,
  settings: Partial<ProviderSettings> = {},
  mapping: object = sessionClaims,
): Promise<unknown> {
  if (userinfo) world.answers.set(`${issuer}/userinfo`, userinfo);
  const opened = await openFakeProvider(world, [], settings);
  const { userinfo_endpoint: _none, ...metadata } = opened.metadata;
  const provider = userinfo ? opened : { ...opened, metadata };
  const store = createMemoryStore();
  const identity = { issuer, subject, provider: "quayside" };
  const session = { id: "s1", ...identity, claims: before, createdAt: noon, expiresAt: noon + 3600 };
  await store.saveSignIn({ personId: "p1", profile: {}, identity, session });
  const report = (error: unknown, what: string) =>
    void reported.push(`${(error as { problem: { code: string } }).problem.code} ${what}`);
  const resolved = { providers: { quayside: { sessionClaims: mapping } }, oauth1Providers: {} };
  const context = { tools: { ...provider.tools, report }, settings: resolved, store } as unknown as Context;
  const grant = { issuer, clientId: "ferrywell", accessToken: "at", scope: "openid", obtainedAt: noon };
  await renewClaims(context, {
    connection,
    provider,
    grant,
    idClaims: undefined,
    isForApi: false,
    ...brought,
  });
  return (await store.findSession("s1"))?.session.claims;
}

const idClaims = { sub: subject, roles: ["member"] };
const asksUserinfo = () => world.requests.some(({ url }) => url.endsWith("/userinfo"));
const told = (claims: object) => Response.json({ sub: subject, ...claims });

describe("the claims of a session, after a refresh", () => {
  it.each<[string, Partial<Renewed>, FakeAnswer | undefined, unknown, boolean]>([
    [
      "the ID token says all",
      { idClaims: { ...idClaims, tid: "quay" } },
      undefined,
      { roles: ["member"], tenant: "quay" },
      false,
    ],
    [
      "it says some, and userinfo the rest",
      { idClaims },
      told({ club: "sailing", roles: ["coach"] }),
      { roles: ["member"], tenant: "sailing" },
      true,
    ],
    ["there is no ID token", {}, told({ roles: ["coach"] }), { roles: ["coach"] }, true],
    ["a token is for an API, and not for userinfo", { isForApi: true, idClaims }, told({}), before, false],
    [
      "an account is at another provider",
      { idClaims, connection: { ...connection, provider: "lockgate" } },
      told({}),
      before,
      false,
    ],
    [
      "an account is another than who signed in",
      { idClaims, connection: { ...connection, subject: "qs-10447" } },
      told({}),
      before,
      false,
    ],
  ])("are what the provider says now: %s", async (_, brought, userinfo, claims, isAsked) => {
    expect(await after(brought, userinfo)).toEqual(claims);
    expect(asksUserinfo()).toBe(isAsked);
    expect(reported).toEqual([]);
  });

  it.each<[string, FakeAnswer, string]>([
    ["userinfo is away", new TypeError("no network"), "platform.unreachable"],
    ["userinfo refuses", new Response("", { status: 403 }), "identity.userinfo-refused"],
    [
      "userinfo is of somebody else",
      Response.json({ sub: "qs-10447", roles: [] }),
      "identity.userinfo-subject-mismatch",
    ],
    ["there is too much", told({ roles: ["r".repeat(2100)] }), "session.claims-too-large"],
  ])("stay, and it is reported: %s", async (_, userinfo, code) => {
    expect(await after({}, userinfo)).toEqual(before);
    expect(reported).toEqual([`${code} the session's claims after a refresh at quayside`]);
  });

  it("are asked for nowhere where a session keeps none", async () => {
    expect(await after({}, told({ roles: ["coach"] }), {}, {})).toEqual(before);
    expect(asksUserinfo()).toBe(false);
  });

  it("are what a provider without ID tokens says, of the same person, and stay where nobody says anything", async () => {
    const withoutIdTokens = { deviations: { noIdToken: true } } as const;
    expect(await after({}, told({ roles: ["coach"] }), withoutIdTokens)).toEqual({ roles: ["coach"] });
    const mapped = { ...withoutIdTokens, profile: { subject: "/userId" } };
    const named = Response.json({ userId: subject, roles: ["coach"] });
    expect(await after({}, named, mapped)).toEqual({ roles: ["coach"] });
    const other = Response.json({ sub: "qs-10447", roles: ["coach"] });
    expect(await after({}, other, withoutIdTokens)).toEqual(before);
    expect(reported).toEqual([expect.stringContaining("identity.userinfo-subject-mismatch")]);
    reported = [];
    expect(await after({}, undefined, withoutIdTokens)).toEqual(before);
    expect(await after({})).toEqual(before);
    expect(await after({ idClaims })).toEqual({ roles: ["member"] });
    expect(reported).toEqual([]);
  });

  it("are those of a call's refresh: a role that was taken away is gone", async () => {
    const practice = await startPractice({ algorithm: "ES256", lifetimes: { accessTokenSeconds: 10 } });
    const app = await startApp(practice, {
      providers: {
        quayside: {
          issuer: practice.issuer,
          clientId: practice.client.clientId,
          clientSecret: defaultClient.clientSecret!,
          scope: "openid profile offline_access tides.read",
          sessionClaims: { roles: "/roles" },
        },
      },
      apis: { tidebook: { provider: "quayside", origin: practice.tidebook } },
    });
    const maren = practice.people[0]!;
    const { roles } = maren;
    try {
      const visitor = createVisitor();
      await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/tides`);
      for (const label of ["Maren", "Yes, allow"]) await visitor.press(label);
      const claims = async () => (await app.store.findSessions({}))[0]?.session.claims;
      expect(await claims()).toEqual({ roles });
      Object.assign(maren, { roles: ["member"] });
      app.aheadSeconds = 11;
      expect((await visitor.open(`${app.origin}/tides`)).status).toBe(200);
      expect(await claims()).toEqual({ roles: ["member"] });
    } finally {
      Object.assign(maren, { roles });
      await app.stop();
      await practice.stop();
    }
  });
});
