import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createVisitor, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { openSignIn } from "../examples/ferrywell/dist/server/sign-in.js";
import { registration } from "../examples/ferrywell/dist/server/serve-ferrywell.js";
import { openHistory } from "../examples/ferrywell/dist/server/history.js";
import { createApp } from "../examples/ferrywell/dist/server/app.js";
import { listenFor, type Listening } from "./support/listen.js";

/** Ferrywell's own settings name four providers; nothing else about it knows how many there are. */
describe("Ferrywell with four providers by settings alone", () => {
  let practice: Practice;
  let listening: Listening;
  let visitor: Visitor;

  beforeAll(async () => {
    process.env["FERRYWELL_KEYS"] = Buffer.alloc(32, 3).toString("base64url");
    process.env["QUAYSIDE_SECRET"] = "only-for-practice";
    practice = await startPractice({ algorithm: "ES256" });
    listening = await listenFor(async (origin) => {
      const { signIn } = await openSignIn({ origin, practice, database: ":memory:" });
      const app = createApp(signIn, openHistory(":memory:", 1), async () => "<!doctype html>");
      return { signIn, app: app.fetch };
    });
    practice.register(registration(listening.origin));
  });
  afterAll(async () => {
    await listening.stop();
    await practice.stop();
  });
  beforeEach(() => {
    visitor = createVisitor();
  });
  const signIn = async (title: string, person: string) => {
    await visitor.open(`${listening.origin}/sign-in`);
    await visitor.press(`Sign in with ${title}`);
    await visitor.press(person);
    return visitor.press("Yes, allow");
  };
  const me = async () =>
    (await (await visitor.fetch(`${listening.origin}/api/me`)).json()) as Record<string, unknown>;

  it("offers all four", async () => {
    const { text } = await visitor.open(`${listening.origin}/sign-in`);
    for (const title of ["Quayside ID", "Harbour Union", "Lockgate Permits", "Old Wharf Archive"]) {
      expect(text).toContain(`Sign in with ${title}`);
    }
  });

  it("signs in with each, and knows the same human at four providers as four people", async () => {
    const ids = new Set<unknown>();
    for (const title of ["Quayside ID", "Harbour Union", "Lockgate Permits", "Old Wharf Archive"]) {
      await signIn(title, "Maren");
      const { person } = (await me()) as { person: { id: string } };
      expect(person).toMatchObject({ name: "Maren Holt", email: "maren.holt@ferrywell.example" });
      ids.add(person.id);
    }
    expect(ids.size).toBe(4);
  });

  it("lets in members of the admitted organisation, and nobody else's", async () => {
    const page = await signIn("Harbour Union", "Zoë");
    expect(page.status).toBe(403);
    expect(page.text).toContain("(provider.tenant-refused)");
    expect(page.text).toContain("one of rowing-club");
    expect(page.text).toContain("sailing-club");
    expect(await me()).toMatchObject({ kind: "nobody" });
  });

  it("keeps with the connection what the callback of Lockgate Permits brought", async () => {
    await signIn("Lockgate Permits", "Ib");
    expect(await me()).toMatchObject({
      person: { name: "Ib" },
      connection: { provider: "lockgate", scope: ["permits.read"], kept: { office: "rowing-club" } },
    });
    // And Ferrywell's page of tides says what it would take.
    const tides = await visitor.fetch(`${listening.origin}/api/tides`);
    expect(await tides.json()).toMatchObject({ addAt: "/" });
  });

  it("takes an answer at another provider's redirect URI for a mix-up, before its code goes anywhere", async () => {
    const begun = await visitor.fetch(`${listening.origin}/sign-in/to/lockgate`);
    const state = new URL(begun.headers.get("location") ?? "").searchParams.get("state") ?? "";
    const other = `${listening.origin}/sign-in/from/quayside?code=x&iss=${practice.issuer}&state=${state}`;
    const page = await visitor.open(other);
    expect(page.text).toContain("(response.issuer-mismatch)");
    expect(page.text).toContain("the redirect URI of &quot;lockgate&quot;");
  });

  it("says what Lockgate Permits answered when it refuses inside status 200", async () => {
    await signIn("Lockgate Permits", "Ib");
    const begun = await visitor.fetch(`${listening.origin}/sign-in/to/lockgate`);
    const state = new URL(begun.headers.get("location") ?? "").searchParams.get("state") ?? "";
    const page = await visitor.open(`${listening.origin}/sign-in/from/lockgate?code=made-up&state=${state}`);
    expect(page.text).toContain("grant.code-refused");
    expect(page.text).toContain("invalid_grant");
  });
});

describe("Harbour Union", () => {
  it("lets only an administrator allow what concerns the whole organisation", async () => {
    const practice = await startPractice({ algorithm: "EdDSA" });
    const redirectUri = practice.client.redirectUris[0] ?? "";
    const query = new URLSearchParams({
      response_type: "code",
      client_id: practice.client.clientId,
      redirect_uri: redirectUri,
      scope: "openid cranes.operate",
      code_challenge: "c".repeat(43),
      code_challenge_method: "S256",
    });
    const decide = async (person: string) => {
      const visitor = createVisitor();
      await visitor.open(`${practice.harbour}/authorize?${query}`);
      const { text } = await visitor.press(person);
      const request = /name="request" value="([^"]+)"/.exec(text)?.[1] ?? "";
      const body = new URLSearchParams({ request, decision: "allow" });
      const answer = await visitor.fetch(`${practice.harbour}/authorize/decision`, { method: "POST", body });
      return Object.fromEntries(new URL(answer.headers.get("location") ?? "").searchParams);
    };
    expect(await decide("Maren")).toMatchObject({
      error: "consent_required",
      iss: `${practice.harbour}/rowing-club`,
    });
    expect(await decide("Ib")).toHaveProperty("code");
    await practice.stop();
  });
});
