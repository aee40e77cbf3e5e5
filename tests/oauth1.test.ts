import { mkdtemp, readFile, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import type { OAuth1Settings } from "tenonsaw";
import type { Session } from "tenonsaw/server";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { freePorts } from "../scripts/servers.mjs";
import { start } from "./support/processes.js";
import { startApp, type App } from "./support/start-app.js";
import { newKeyPair } from "../scripts/key-pair.mjs";

const rsa = newKeyPair("rsa", { modulusLength: 2048 });
const rsaJwk = { ...rsa.privateKey.export({ format: "jwk" }), alg: "RS256", kid: "archive" };

let practice: Practice;
let visitor: Visitor;
let app: App | undefined;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
});
afterAll(() => practice.stop());
beforeEach(() => {
  visitor = createVisitor();
});
afterEach(async () => {
  practice.rehearse();
  await app?.stop();
  app = undefined;
});

const archive = (changes: Partial<OAuth1Settings> = {}) => ({
  protocol: "oauth1" as const,
  title: "Old Wharf Archive",
  issuer: practice.archive,
  clientId: "ferrywell",
  clientSecret: defaultClient.clientSecret!,
  temporaryCredentialsEndpoint: `${practice.archive}/initiate`,
  authorizationEndpoint: `${practice.archive}/authorize`,
  tokenEndpoint: `${practice.archive}/token`,
  userinfoEndpoint: `${practice.archive}/api/me`,
  profile: { subject: "/card/number", name: "/card/holder" },
  declinedParameter: "denied",
  ...changes,
});

async function open(changes: Partial<OAuth1Settings> = {}): Promise<App> {
  app = await startApp(practice, {
    providers: { archive: archive(changes) },
    apis: { boxes: { provider: "archive", origin: practice.archive } },
  });
  const { publicKey } = rsa;
  practice.register({
    ...defaultClient,
    publicKeys: [publicKey.export({ format: "jwk" }) as never],
    redirectUris: [`${app.origin}/sign-in/from/archive`],
  });
  return app;
}

/** Signs in; the session as the app gets it. */
async function signIn(decision = "Yes, allow"): Promise<Session | undefined> {
  await visitor.open(`${app!.origin}/sign-in/to/archive?returnTo=/`);
  await visitor.press("Maren");
  await visitor.press(decision);
  const cookie = `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
  return app!.signIn.session(new Request(app!.origin, { headers: { cookie } }));
}

describe("an app whose provider speaks OAuth 1.0a", () => {
  it.each([
    ["HMAC-SHA1", "header"],
    ["HMAC-SHA256", "body"],
    ["HMAC-SHA1", "query"],
    ["RSA-SHA1", "header"],
    ["PLAINTEXT", "query"],
  ] as const)("signs in and calls its API, by %s in the %s", async (signatureMethod, transmission) => {
    const isRsa = signatureMethod === "RSA-SHA1";
    await open({
      signatureMethod,
      transmission,
      ...(isRsa && { clientSecret: undefined, clientKeys: JSON.stringify(rsaJwk) }),
    });
    const session = await signIn();
    expect(session?.person.name).toBe("Maren Holt");
    expect(await session?.connection()).toMatchObject({ status: "active", isRenewable: false, scope: [] });
    const answer = await session?.fetch("boxes", "/api/boxes?shelf=a%20b&shelf=%C3%A4+!&shelf=");
    expect([answer?.status, await answer?.json()]).toEqual([
      200,
      expect.objectContaining({ reader: "Maren Holt", shelf: ["a b", "ä !", ""] }),
    ]);
    const posted = await session?.fetch("boxes", "/api/boxes", {
      method: "POST",
      body: new URLSearchParams([
        ["note", "a&b=c"],
        ["note", "ü"],
        ["empty", ""],
      ]),
    });
    expect(posted?.status).toBe(200);
    // What was stored opens nothing by itself, and nothing that was told gives it away.
    const connection = (await app!.store.findSessions({}))[0]!;
    const kept = await app!.store.findConnection(connection.session.id, "archive");
    expect(kept?.sealedTokenSecret).toMatch(/^eyJ[\w-]+\.\./);
    expect(JSON.stringify(app!.events)).not.toContain("only-for-practice");
  });

  it("sends the signature to the declared origin only", async () => {
    await open();
    const session = await signIn();
    await expect(session?.fetch("boxes", "https://evil.example/")).rejects.toMatchObject({
      problem: { code: "connection.other-origin" },
    });
  });

  it("takes a no for an answer, and signs out without asking the provider anything", async () => {
    await open();
    await signIn("No, not now");
    expect(visitor.page?.text).toContain("You are not signed in");
    await signIn();
    const page = await visitor.post(`${app!.origin}/sign-in/out`, {});
    expect(page.trail).toEqual([`${app!.origin}/sign-in/out`, `${app!.origin}/`]);
  });

  it("is not confused by an answer of another browser, or by the same one again", async () => {
    await open();
    await visitor.open(`${app!.origin}/sign-in/to/archive`);
    const other = createVisitor();
    const token = new URL(visitor.page?.url ?? "").searchParams.get("oauth_token") ?? "";
    await other.open(`${app!.origin}/sign-in/to/archive`);
    await other.open(`${app!.origin}/sign-in/from/archive?oauth_token=${token}&oauth_verifier=x`);
    expect(other.page?.text).toContain("(response.other-browser)");
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
    const callback = visitor.page?.trail.find((url) => url.includes("/from/archive")) ?? "";
    expect((await visitor.open(callback)).url).toBe(`${app!.origin}/`);
  });

  it("says at the routes of OAuth 2.0 that there is no such thing", async () => {
    await open();
    const notice = await visitor.fetch(`${app!.origin}/sign-in/back-channel/archive`, {
      method: "POST",
      body: new URLSearchParams({ logout_token: "x" }),
    });
    expect([notice.status, await notice.text()]).toEqual([
      400,
      expect.stringContaining("provider.other-protocol"),
    ]);
  });

  it.each(["temporary-credentials-refused", "token-credentials-refused", "wharf-verifier-missing"] as const)(
    "tells a developer what was wrong: %s",
    async (fault) => {
      await open();
      practice.rehearse(fault);
      const page = await visitor.open(`${app!.origin}/sign-in/to/archive`);
      if (!fault.startsWith("temporary")) {
        await visitor.press("Maren");
        await visitor.press("Yes, allow");
      }
      expect(page.text + (visitor.page?.text ?? "")).toContain("(oauth1.");
    },
  );
});

describe("the commands, with a provider of OAuth 1.0a", () => {
  let folder: string;
  let origin: string;
  let file: string;
  beforeAll(async () => {
    folder = await mkdtemp(join(tmpdir(), "tenonsaw-oauth1-"));
    origin = `http://localhost:${await freePorts(1)}`;
    file = join(folder, "tenonsaw.config.json");
    practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/archive`] });
    await write({});
  });
  afterAll(() => rm(folder, { recursive: true }));
  const write = (changes: Partial<OAuth1Settings>) =>
    writeFile(
      file,
      JSON.stringify(
        {
          origin,
          providers: { archive: archive({ clientSecret: { env: "SECRET" }, ...changes }) },
          apis: { boxes: { provider: "archive", origin: practice.archive } },
        },
        undefined,
        2,
      ),
    );
  const env = { SECRET: "only-for-practice", TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url") };
  const run = (...args: readonly string[]) =>
    start("packages/tenonsaw/bin/tenonsaw.js", [...args, "--settings", file], { env });

  it("print what to register", async () => {
    const { code, output } = await run("sheet").finished;
    expect([code, output]).toEqual([
      0,
      expect.stringMatching(/Callback URL +http:\S+\/sign-in\/from\/archive/),
    ]);
    expect(output).toMatch(/Signature method +HMAC-SHA1/);
    expect((await run("sheet", "--format", "registration").finished).output).toBe("{}\n");
    expect((await run("sheet", "--register").finished).errors).toContain("provider.other-protocol");
  });

  it("check by asking for temporary credentials", async () => {
    const good = await run("check", "archive", "--all").finished;
    expect([good.code, good.output]).toEqual([
      0,
      expect.stringContaining("temporary credentials were given"),
    ]);
    await write({ clientSecret: "wrong" });
    const wrong = await run("check", "archive").finished;
    expect([wrong.code, wrong.output]).toEqual([1, expect.stringMatching(/signature\s+invalid/)]);
    await write({ signatureMethod: "RSA-MD5" as never });
    const refused = await run("check").finished;
    expect(refused.code).toBe(2);
    expect(refused.errors).toMatch(
      /tenonsaw\.config\.json:\d+:\d+ providers\.archive\.signatureMethod: must be one of/,
    );
    await write({});
  });

  it("sign in from the terminal, make a call, and keep what happened", async () => {
    const page = join(folder, "trace.json");
    const trying = run("try", "archive", "--call", "boxes/api/boxes?shelf=a+b", "--page", page);
    const said = await trying.waitFor("Waiting");
    const [url = ""] = new RegExp(`${practice.archive}/authorize\\S+`).exec(said) ?? [];
    await visitor.open(url);
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
    const { code, output } = await trying.finished;
    expect(code).toBe(0);
    expect(output).toContain("Signed in.");
    expect(output).toMatch(/subject +qs-10231/);
    expect(output).toContain("Regatta programmes 1911");
    expect(output).not.toContain("only-for-practice");
    expect((await run("explain", await readFile(page, "utf8")).finished).output).toMatch(
      /TRACE {2}Sign-in at archive, tried: signed in/,
    );
    const device = await run("try", "archive", "--device").finished;
    expect([device.code, device.errors]).toEqual([2, expect.stringContaining("provider.other-protocol")]);
  });
});
