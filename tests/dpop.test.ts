import { createHash } from "node:crypto";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import {
  beginSignIn,
  createPlatform,
  finishSignIn,
  openProvider,
  refreshGrant,
  requestClientToken,
  type Grant,
  type Provider,
} from "tenonsaw";
import { createVisitor, defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import { start } from "./support/processes.js";
import { startApp } from "./support/start-app.js";

const redirectUri = "http://localhost:5173/back";
let practice: Practice;
let provider: Provider;
beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
  practice.register({ ...defaultClient, redirectUris: [redirectUri] });
  provider = await openProvider(
    {
      issuer: practice.issuer,
      clientId: defaultClient.clientId,
      clientSecret: defaultClient.clientSecret ?? "",
      scope: "openid profile offline_access tides.read",
      dpopBoundAccessTokens: true,
    },
    { platform: createPlatform() },
  );
});
afterAll(() => practice.stop());

describe("the cryptography", () => {
  it("never stands still, however often memory is collected while keys are made and used", async () => {
    const { output, errors } = await start("tests/support/engine-at-work.mjs").finished;
    expect([output, errors]).toEqual(["done\n", ""]);
  });
});

async function signIn(change: (url: URL) => void = () => undefined) {
  const { url, attempt } = await beginSignIn(provider, { redirectUri });
  const address = new URL(url);
  change(address);
  const visitor = createVisitor();
  const page = await visitor.open(address.href);
  const request = /name="request" value="([^"]+)"/.exec(page.text)?.[1] ?? "";
  await visitor.post(`${practice.issuer}/authorize/person`, { request, person: "maren" });
  const answer = await visitor.fetch(`${practice.issuer}/authorize/decision`, {
    method: "POST",
    body: new URLSearchParams({ request, decision: "allow" }),
  });
  return { attempt, outcome: await finishSignIn(provider, attempt, answer.headers.get("location") ?? "") };
}
async function granted(): Promise<Grant> {
  const { outcome } = await signIn();
  if (outcome.kind !== "granted") throw new TypeError(JSON.stringify(outcome));
  return outcome.grant;
}
const callTides = (headers: Readonly<Record<string, string>>) =>
  fetch(`${practice.tidebook}/tides/today`, { headers });

describe("access tokens bound to a key", () => {
  it("come with sign-in, userinfo included, against servers that ask for nonces", async () => {
    const grant = await granted();
    expect(grant.dpopKey?.d).toBeTypeOf("string");
    expect(
      JSON.parse(Buffer.from(grant.accessToken.split(".")[1] ?? "", "base64url").toString()),
    ).toMatchObject({
      cnf: { jkt: expect.stringMatching(/^[\w-]{43}$/) as string },
    });
  });

  it("are of no use to whoever has found one", async () => {
    const { accessToken } = await granted();
    const asBearer = await callTides({ authorization: `Bearer ${accessToken}` });
    expect([asBearer.status, asBearer.headers.get("www-authenticate")]).toEqual([
      401,
      expect.stringContaining("DPoP"),
    ]);
    expect((await callTides({ authorization: `DPoP ${accessToken}` })).status).toBe(401);
  });

  it("stay with their key when they are renewed", async () => {
    const grant = await granted();
    const renewed = await refreshGrant(provider, grant);
    expect(renewed.dpopKey).toEqual(grant.dpopKey);
    const { dpopKey: _lost, ...without } = renewed;
    await expect(refreshGrant(provider, without)).rejects.toMatchObject({
      problem: { code: "grant.provider-error" },
    });
  });

  it("are refused where the code was bound to another key", async () => {
    const { outcome } = await signIn((url) => {
      url.searchParams.set("dpop_jkt", createHash("sha256").update("another").digest("base64url"));
    });
    expect(outcome).toMatchObject({ kind: "failed", problem: { code: "grant.provider-error" } });
  });

  it("are had by machines as well", async () => {
    const { dpopKey } = await requestClientToken(provider, "slipway.status");
    expect(dpopKey).toBeDefined();
  });

  it("are used by an app without another line of code, its key sealed in the store", async () => {
    const app = await startApp(practice, {
      providers: {
        quayside: {
          issuer: practice.issuer,
          clientId: defaultClient.clientId,
          clientSecret: defaultClient.clientSecret ?? "",
          scope: "openid profile offline_access tides.read",
          dpopBoundAccessTokens: true,
        },
      },
    });
    const visitor = createVisitor();
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/tides`);
    await visitor.press("Maren");
    await visitor.press("Yes");
    expect(visitor.page?.text).toContain("Ferrywell landing");
    app.aheadSeconds = 40;
    expect((await visitor.open(`${app.origin}/tides`)).text).toContain("Ferrywell landing");
    const [{ session } = { session: undefined }] = await app.store.findSessions({});
    const connection = await app.store.findConnection(session?.id ?? "", "quayside");
    expect(connection).toMatchObject({
      refreshCount: 1,
      sealedDpopKey: expect.stringMatching(/^eyJ/) as string,
    });
    expect(JSON.stringify(app.events)).not.toContain('"d":');
    expect((await app.signIn.fetch("slipway", "/status")).status).toBe(200);
    await app.stop();
  });

  it("are insisted on: an answer of another type is refused", async () => {
    practice.rehearse("token-type-unknown");
    await expect(requestClientToken(provider, "slipway.status")).rejects.toMatchObject({
      problem: { code: "grant.token-type-refused", expected: expect.stringContaining("DPoP") as string },
    });
    practice.rehearse();
  });
});
