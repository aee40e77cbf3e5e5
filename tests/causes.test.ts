import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { Readable } from "node:stream";
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from "vitest";
import {
  beginSignIn,
  createPlatform,
  finishSignIn,
  openProvider,
  refreshGrant,
  registerClient,
  requestDeviceCode,
  revokeGrant,
  type Platform,
  type ProviderSettings,
} from "tenonsaw";
import { describeProblem, problemText, type Problem } from "tenonsaw/problem";
import { createSignIn, readSettingsText, type SignIn, type SignInSettings } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { startPractice, type Practice } from "tenonsaw-practice";
import { freePorts } from "../scripts/servers.mjs";
import { createFakeWorld, issuer, metadata, problemOf, type FakeAnswer } from "./support/fake-world.js";
import { sealingKey } from "../scripts/sealing-key.mjs";

/** Mistakes, each planted: what is said of it is about its cause, and not about what else the code may come from. */
const metadataUrl = `${issuer}/.well-known/openid-configuration`;

async function openingWith(answer: FakeAnswer, settings: Partial<ProviderSettings> = {}): Promise<Problem> {
  const world = createFakeWorld();
  const { discovery } = settings;
  world.answers.set(
    discovery === "oauth" ? `${issuer}/.well-known/oauth-authorization-server` : metadataUrl,
    answer,
  );
  return problemOf(() =>
    openProvider({ issuer, clientId: "ferrywell", ...settings }, { platform: world.platform }),
  );
}

const failure = (code: string) =>
  Object.assign(new TypeError("fetch failed"), { cause: Object.assign(new Error("x"), { code }) });
const page = (text: string, status = 200) =>
  new Response(text, { status, headers: { "content-type": "text/html; charset=utf-8" } });
const naming = (other: string) => Response.json({ ...metadata, issuer: other });

const byHand = {
  authorizationEndpoint: `${issuer}/a`,
  tokenEndpoint: `${issuer}/t`,
  jwksUri: `${issuer}/k`,
};
it.each<[string, Partial<ProviderSettings>, string, string]>([
  ["metadata of plain OAuth", { discovery: "oauth" }, "provider.metadata-not-found", "no-oauth-metadata"],
  [
    "no algorithm of a provider without",
    { discovery: "none", metadata: { ...byHand, idTokenSigningAlgValuesSupported: ["HS256"] } },
    "provider.metadata-refused",
    "by-hand",
  ],
  [
    "no place for requests of a provider without",
    { discovery: "none", metadata: byHand, requirePushedAuthorizationRequests: true },
    "provider.metadata-refused",
    "by-hand",
  ],
])("tells what is amiss where there is %s", async (_, settings, code, because) => {
  const problem = await openingWith(new Response("no", { status: 404 }), settings);
  expect([problem.code, problem.because]).toEqual([code, because]);
});

it("tells an issuer that is the address of its metadata from one that is nowhere", async () => {
  const world = createFakeWorld();
  world.answers.set(`${metadataUrl}/.well-known/openid-configuration`, new Response("no", { status: 404 }));
  const problem = await problemOf(() =>
    openProvider({ issuer: metadataUrl, clientId: "ferrywell" }, { platform: world.platform }),
  );
  expect([problem.code, problem.because]).toEqual(["provider.metadata-not-found", "metadata-address"]);
  expect(problem.here).toContain("Leave off `/.well-known/`");
});

describe("an endpoint beside the token endpoint", () => {
  const refusing =
    (error: string, status = 400) =>
    () =>
      Response.json({ error }, { status });
  const legs = {
    "attempt.request-refused": ["push", 201, { request_uri: "urn:x", expires_in: 60 }],
    "grant.device-refused": [
      "device-authorization",
      200,
      { device_code: "d", user_code: "A-B", verification_uri: issuer, expires_in: 60 },
    ],
    "grant.revocation-refused": ["revoke", 200, {}],
    "provider.registration-refused": ["register", 201, { client_id: "f" }],
  } as const;
  type Leg = keyof typeof legs;

  async function asking(leg: Leg, answer: () => Response): Promise<Problem> {
    const world = createFakeWorld();
    const offered = { ...metadata, registration_endpoint: `${issuer}/register` };
    world.answers.set(metadataUrl, Response.json(offered));
    world.answers.set(`${issuer}/${legs[leg][0]}`, answer);
    const settings = { issuer, clientId: "ferrywell", clientSecret: "s3cret", scope: "openid read" };
    const pushed = { ...settings, requirePushedAuthorizationRequests: true };
    const provider = await openProvider(pushed, { platform: world.platform });
    const grant = { issuer, clientId: "ferrywell", accessToken: "a", scope: "read", obtainedAt: 0 };
    return problemOf(() => {
      if (leg === "attempt.request-refused") return beginSignIn(provider, { redirectUri: `${issuer}/back` });
      if (leg === "grant.device-refused") return requestDeviceCode(provider);
      return leg === "grant.revocation-refused" ? revokeGrant(provider, grant) : registerClient(provider, {});
    });
  }

  const proving = ["attempt.request-refused", "grant.device-refused", "grant.revocation-refused"] as const;
  it.each<[string, () => Response, string | undefined, string | undefined]>([
    ["that does not take the client", refusing("invalid_client", 401), "grant.client-refused", undefined],
    ["that says 401 and no more", () => new Response("", { status: 401 }), "grant.client-refused", undefined],
    ["that does not give the scope", refusing("invalid_scope"), undefined, "scope"],
    ["that is not for this client", refusing("unauthorized_client"), undefined, "not-allowed"],
    ["that is not there", () => new Response("", { status: 404 }), undefined, "not-there"],
    ["that is a page", () => page("<h1>Hi</h1>", 400), undefined, "not-there"],
    ["that says something else", refusing("invalid_request"), undefined, undefined],
  ])("%s", async (_, answer, code, because) => {
    for (const leg of proving) {
      const problem = await asking(leg, answer);
      expect([problem.code, problem.because]).toEqual([code ?? leg, because]);
    }
  });

  it("whose answer leaves something out is told which", async () => {
    for (const leg of [...proving, "provider.registration-refused"] as const) {
      const [, status, whole] = legs[leg];
      for (const name of Object.keys(whole)) {
        const problem = await asking(leg, () => Response.json({ ...whole, [name]: undefined }, { status }));
        expect([problem.code, problem.because]).toEqual([leg, "unusable"]);
        expect(problem.findings).toEqual([{ path: name, message: "is missing" }]);
      }
    }
  });

  it("that takes a pushed request with another status, or lets nobody register without a token", async () => {
    const [, , pushed] = legs["attempt.request-refused"];
    expect((await asking("attempt.request-refused", () => Response.json(pushed))).because).toBe(
      "other-status",
    );
    const problem = await asking("provider.registration-refused", () => new Response("", { status: 401 }));
    expect(problem.because).toBe("no-token");
  });
});

describe("what comes in place of the metadata", () => {
  it.each<[string, FakeAnswer, string, string | undefined, RegExp]>([
    ["a slash at the end", naming(`${issuer}/`), "provider.issuer-mismatch", "slash", /slash at its end/],
    [
      "a placeholder",
      naming("https://id.quayside.example/{org}"),
      "provider.issuer-mismatch",
      "placeholder",
      /deviations\.tenants/,
    ],
    ["capitals", naming("https://id.Quayside.example"), "provider.issuer-mismatch", "letters", /capitals/],
    ["another policy", naming(`${issuer}/members/v2`), "provider.issuer-mismatch", "path", /metadataUrl/],
    [
      "another environment",
      naming("https://id.harbour.example"),
      "provider.issuer-mismatch",
      "elsewhere",
      /this environment/,
    ],
    [
      "nothing there",
      new Response("no", { status: 404 }),
      "provider.metadata-not-found",
      "no-such-address",
      /discovery/,
    ],
    [
      "a gateway",
      new Response("no", { status: 401 }),
      "provider.metadata-not-found",
      "not-allowed",
      /credentials/,
    ],
    ["a page", page("<!doctype html><h1>Log in</h1>"), "platform.not-json", "page", /maintenance notice/],
    ["nothing at all", new Response("", { status: 200 }), "platform.not-json", "empty", /no body/],
    [
      "a busy provider",
      new Response("", { status: 503, headers: { "retry-after": "9" } }),
      "provider.unavailable",
      undefined,
      /Wait/,
    ],
    [
      "a redirect",
      () => new Response("", { status: 302, headers: { location: "/login" } }),
      "platform.redirected",
      undefined,
      /"\/login"/,
    ],
    ["nobody listening", failure("ECONNREFUSED"), "platform.unreachable", "nobody-listens", /host and port/],
    ["a misspelt host", failure("ENOTFOUND"), "platform.unreachable", "name-unknown", /spelling/],
    ["a cut connection", failure("ECONNRESET"), "platform.unreachable", "cut-off", /firewall/],
    [
      "an authority of one's own",
      failure("SELF_SIGNED_CERT_IN_CHAIN"),
      "platform.unreachable",
      "certificate-untrusted",
      /NODE_EXTRA_CA_CERTS/,
    ],
    [
      "a certificate that has run out",
      failure("CERT_HAS_EXPIRED"),
      "platform.unreachable",
      "certificate-expired",
      /clock/,
    ],
    [
      "a certificate of another host",
      failure("ERR_TLS_CERT_ALTNAME_INVALID"),
      "platform.unreachable",
      "certificate-name",
      /names others/,
    ],
    ["http where https is said", failure("EPROTO"), "platform.unreachable", "not-tls", /scheme and port/],
    [
      "a service that is none of HTTP's",
      failure("HPE_INVALID_CONSTANT"),
      "platform.unreachable",
      "not-http",
      /port answers something else than HTTP/,
    ],
    ...(
      [
        ["nothing", undefined],
        ["an object of its own", { status: 200, headers: {}, data: {} }],
        ["no body", { status: 200, headers: new Headers(), text: () => "{}" }],
        ["Node's own stream", { status: 200, headers: new Headers(), body: Readable.from(["{}"]) }],
      ] as const
    ).map(
      ([what, answer]) =>
        [
          `a fetch that answers with ${what}`,
          () => answer as unknown as Response,
          "platform.unreachable",
          "own-fetch",
          /createPlatform/,
        ] as [string, FakeAnswer, string, string, RegExp],
    ),
    ["a network without a way", failure("ENETUNREACH"), "platform.unreachable", "no-way", /VPN/],
    [
      "what is dropped on the way",
      failure("UND_ERR_CONNECT_TIMEOUT"),
      "platform.unreachable",
      "no-way",
      /drops/,
    ],
    [
      "a failure without a code",
      new TypeError("failed"),
      "platform.unreachable",
      undefined,
      /name resolution/,
    ],
  ])("%s", async (_name, answer, code, because, says) => {
    const problem = await openingWith(answer);
    expect([problem.code, problem.because]).toEqual([code, because]);
    expect(problemText(problem)).toMatch(says);
  });

  it.each<[string, Partial<ProviderSettings>, object, RegExp]>([
    [
      "client authentication",
      { clientSecret: "s", clientAuthentication: "client_secret_post" },
      { token_endpoint_auth_methods_supported: ["client_secret_basic", "none"] },
      /clientAuthentication: is client_secret_post, and the metadata lists client_secret_basic, none/,
    ],
    [
      "a signature algorithm",
      { idTokenSignedResponseAlg: "EdDSA" },
      { id_token_signing_alg_values_supported: ["RS256"] },
      /idTokenSignedResponseAlg: is EdDSA, and the metadata lists RS256/,
    ],
  ])("%s that it does not list: the setting is named", async (_name, settings, members, says) => {
    const problem = await openingWith(Response.json({ ...metadata, ...members }), settings);
    expect([problem.code, problem.because]).toEqual(["provider.metadata-refused", "own-setting"]);
    expect(problemText(problem)).toMatch(says);
  });
});

describe("a network that lets nothing out but through its proxy", () => {
  const named = { HTTPS_PROXY: "http://proxy.ferrywell.example:3128" };
  const silence = (_: string, { signal }: RequestInit) =>
    new Promise<never>((_resolve, reject) =>
      signal?.addEventListener("abort", () => reject(signal.reason as Error)),
    );
  const failing = (code: string) => () => Promise.reject(failure(code));
  /** What Node sends with, by the names that its releases have for it. */
  const sender = Symbol.for("undici.globalDispatcher.1");
  const before: unknown = Reflect.get(globalThis, sender);
  afterEach(() => {
    vi.unstubAllGlobals();
    Reflect.set(globalThis, sender, before);
  });
  const whole = "platform.unreachable";

  it.each<[string, (url: string, init: RequestInit) => Promise<Response>, object, string, string, string?]>([
    ["passed by", failing("ENOTFOUND"), named, "Agent", whole, "proxy-unused"],
    [
      "passed by, and a firewall",
      failing("ECONNREFUSED"),
      { https_proxy: "http://p" },
      "Agent",
      whole,
      "proxy-unused",
    ],
    ["passed by, and silence", silence, named, "Agent", whole, "proxy-unused"],
    ["passed by, and no matter of the network", failing("ERR_INVALID_CHAR"), named, "Agent", whole],
    ["none, and silence", silence, {}, "Agent", "platform.too-slow"],
    ["asked, and it refuses", failing("UND_ERR_ABORTED"), named, "EnvHttpProxyAgent", whole, "proxy"],
    ["asked, and silent", silence, named, "EnvHttpProxyAgent", whole, "proxy"],
    [
      "asked or not: the certificate is at fault",
      failing("CERT_HAS_EXPIRED"),
      named,
      "Agent",
      whole,
      "certificate-expired",
    ],
    [
      "not for this host",
      failing("ENOTFOUND"),
      { ...named, NO_PROXY: "x.example, .quayside.example" },
      "Agent",
      whole,
      "name-unknown",
    ],
    [
      "not for one whose name ends alike",
      failing("ENOTFOUND"),
      { ...named, NO_PROXY: "yside.example" },
      "Agent",
      whole,
      "proxy-unused",
    ],
    ["for nothing", failing("ENOTFOUND"), { ...named, no_proxy: "*" }, "Agent", whole, "name-unknown"],
    [
      "perhaps asked, by what the app sends with",
      failing("ENOTFOUND"),
      named,
      "OwnSender",
      whole,
      "name-unknown",
    ],
  ])("%s", async (_, answering, environment, kind, code, because) => {
    vi.stubGlobal("fetch", answering);
    Reflect.set(globalThis, sender, { constructor: { name: kind } });
    const platform = createPlatform({ environment: (name) => (environment as Record<string, string>)[name] });
    const opening = openProvider({ issuer, clientId: "ferrywell", timeoutSeconds: 1 }, { platform });
    const problem = await problemOf(() => opening);
    expect([problem.code, problem.because]).toEqual([code, because]);
    if (because === "proxy-unused") expect(problemText(problem)).toContain("NODE_USE_ENV_PROXY=1");
  });

  it("says nothing of it where the app has a fetch of its own, or the address is this machine's", async () => {
    Reflect.set(globalThis, sender, { constructor: { name: "Agent" } });
    const environment = () => "http://proxy.ferrywell.example:3128";
    const becauseOf = async (at: string, parts: Partial<Platform>) => {
      const platform = createPlatform({ environment, ...parts });
      return (await problemOf(() => openProvider({ issuer: at, clientId: "ferrywell" }, { platform })))
        .because;
    };
    expect(await becauseOf(issuer, { fetch: failing("ENOTFOUND") })).toBe("name-unknown");
    vi.stubGlobal("fetch", failing("ECONNREFUSED"));
    expect(await becauseOf("http://localhost:4600", {})).toBe("nobody-listens");
  });
});

describe("a provider with a certificate of its own authority", () => {
  let practice: Practice;
  beforeAll(async () => {
    practice = await startPractice({ certificates: true });
  });
  afterAll(() => practice.stop());
  it("is named as such, with what to set", async () => {
    const url = practice.secure?.tidebook ?? "";
    const problem = await problemOf(() => openProvider({ issuer: url, clientId: "ferrywell" }));
    expect([problem.code, problem.because]).toEqual(["platform.unreachable", "certificate-untrusted"]);
    expect(problemText(problem)).toContain("NODE_EXTRA_CA_CERTS");
    // And http at a port for TLS, https at one without.
    const plain = await problemOf(() =>
      openProvider({ issuer: practice.issuer.replace("http:", "https:"), clientId: "ferrywell" }),
    );
    expect(plain.because).toBe("not-tls");
    const port = await freePorts(1);
    const away = await problemOf(() =>
      openProvider({ issuer: `http://localhost:${port}`, clientId: "ferrywell" }),
    );
    expect(away.because).toBe("nobody-listens");
  });
});

describe("a secret", () => {
  const folder = mkdtempSync(join(tmpdir(), "causes-"));
  afterAll(() => rmSync(folder, { recursive: true }));
  writeFileSync(join(folder, "empty"), "\n");

  it.each<[string, ProviderSettings["clientSecret"], string, RegExp]>([
    ["whose variable is not set", { env: "QUAYSIDE_SECRET" }, "variable", /QUAYSIDE_SECRET is not set/],
    ["whose variable is empty", { env: "EMPTY" }, "variable", /EMPTY is empty/],
    [
      "whose file is not there",
      { file: join(folder, "none") },
      "file",
      /none is not there, or not readable[^]*mounted/,
    ],
    ["whose file is empty", { file: join(folder, "empty") }, "file", /empty is empty/],
  ])("%s", async (_name, clientSecret, because, says) => {
    const world = createFakeWorld({ environment: (name) => (name === "EMPTY" ? "" : undefined) });
    const problem = await problemOf(() =>
      openProvider(
        { issuer, clientId: "ferrywell", clientSecret: clientSecret! },
        { platform: world.platform },
      ),
    );
    expect([problem.code, problem.because]).toEqual(["provider.secret-missing", because]);
    expect(problemText(problem)).toMatch(says);
  });

  it.each<[string, string | undefined, Partial<ProviderSettings>, string | undefined]>([
    ["with a line break", "s3cret\n", {}, "white-space"],
    ["in quotes", '"s3cret"', {}, "quotes"],
    ["that is a variable's name", "${QUAYSIDE_SECRET}", {}, "variable"],
    ["that is a placeholder", "your-client-secret", {}, "placeholder"],
    ["that is another placeholder", "<secret>", {}, "placeholder"],
    ["that Basic encodes", "s3c/ret=", {}, "encoding"],
    [
      "that Basic encodes, sent by post",
      "s3c/ret=",
      { clientAuthentication: "client_secret_post" },
      undefined,
    ],
    ["that is just wrong", "s3cret", {}, undefined],
    ["that is not there", undefined, {}, "none"],
    ["that the settings keep from being sent", "s3cret", { clientAuthentication: "none" }, "unsent"],
    ["beside a placeholder", "s3cret", { clientId: "my-client-id" }, "client-id"],
    ["in quotes, beside an ID that is like one", '"s3cret"', { clientId: "my-app" }, "quotes"],
  ])("%s, refused by the provider", async (_name, clientSecret, settings, because) => {
    const world = createFakeWorld();
    world.answers.set(metadataUrl, Response.json(metadata));
    world.answers.set(
      metadata.token_endpoint,
      Response.json({ error: "invalid_client", error_description: "Who are you?" }, { status: 401 }),
    );
    const provider = await openProvider(
      { issuer, clientId: "ferrywell", ...(clientSecret !== undefined && { clientSecret }), ...settings },
      { platform: world.platform },
    );
    const grant = {
      issuer,
      clientId: "ferrywell",
      accessToken: "a",
      scope: "openid",
      obtainedAt: 0,
      refreshToken: "r",
    };
    const problem = await problemOf(() => refreshGrant(provider, grant));
    expect([problem.code, problem.because]).toEqual(["grant.client-refused", because]);
    expect(problem.received).toContain('"Who are you?"');
    expect(problem.received).toContain(`by ${provider.clientAuthentication}`);
    expect(JSON.stringify(problem)).not.toContain("s3c");
  });
});

describe("an error that the provider sends back", () => {
  it.each([
    ["invalid_scope", "scope", /scope: is openid tides\.reed; the metadata does not list tides\.reed/],
    ["unsupported_response_type", "response-type", /responseType: is code/],
    ["unauthorized_client", "client", /Allow this client/],
    ["invalid_request", "request", /authorizationParameters/],
    ["login_required", "person", /without `prompt` none/],
    ["temporarily_unavailable", "out-of-order", /Try again later/],
    ["sorry_not_today", undefined, /Look up the error/],
  ])("%s", async (error, because, says) => {
    const world = createFakeWorld();
    world.answers.set(
      metadataUrl,
      Response.json({ ...metadata, scopes_supported: ["openid", "tides.read"] }),
    );
    const provider = await openProvider(
      { issuer, clientId: "ferrywell", scope: "openid tides.reed" },
      { platform: world.platform },
    );
    const { attempt } = await beginSignIn(provider, { redirectUri: "https://ferrywell.example/back" });
    const answer = new URLSearchParams({
      error,
      error_description: "As we told you",
      error_uri: "https://id.quayside.example/errors/7",
      state: attempt.state,
      iss: issuer,
    });
    const outcome = await finishSignIn(provider, attempt, answer);
    const problem = outcome.kind === "failed" ? outcome.problem : undefined;
    expect([problem?.code, problem?.because]).toEqual(["response.provider-error", because]);
    expect(problem?.received).toBe(
      `"${error}": "As we told you", see "https://id.quayside.example/errors/7"`,
    );
    expect(problemText(problem!)).toMatch(says);
  });
});

const common = {
  origin: "http://localhost:3000",
  keys: sealingKey,
  providers: { quayside: { issuer, clientId: "ferrywell" } },
  development: true,
  onProblem: () => undefined,
} as const;

async function open(settings: Partial<SignInSettings> = {}) {
  const world = createFakeWorld();
  world.answers.set(metadataUrl, Response.json(metadata));
  const all = { ...common, store: createMemoryStore(), platform: world.platform, ...settings };
  return { world, all, signIn: await createSignIn(all) };
}

async function begin(signIn: SignIn, query = "?returnTo=/tides", origin = common.origin as string) {
  const request = new Request(`${origin}/sign-in/to/quayside${query}`);
  const answer = await signIn.handle(request);
  const to = new URL(answer?.headers.get("location") ?? "");
  const cookie = answer?.headers.get("set-cookie")?.split(";")[0] ?? "";
  return { cookie, state: to.searchParams.get("state") ?? "" };
}

describe("a callback", () => {
  const comeBack = async (
    signIn: SignIn,
    parameters: Record<string, string>,
    headers: Record<string, string>,
    origin = common.origin as string,
  ) => {
    const url = `${origin}/sign-in/from/quayside?${new URLSearchParams({ iss: issuer, ...parameters })}`;
    const answer = await signIn.handle(new Request(url, { headers }));
    if (!answer) throw new TypeError("no route");
    return { status: answer.status, text: await answer.text() };
  };

  it.each<[string, Record<string, string>, string, RegExp]>([
    ["in a frame", { "sec-fetch-dest": "iframe" }, "http://localhost:3000", /came back in a frame/],
    ["without any cookie", {}, "http://localhost:3000", /No cookie at all came/],
    ["with other cookies", { cookie: "theme=dark" }, "http://localhost:3000", /Other cookies came/],
    ["by http", { "x-forwarded-proto": "http" }, "https://ferrywell.example", /from a page without TLS/],
  ])("%s", async (_name, headers, origin, says) => {
    const { signIn } = await open({ origin });
    const { state } = await begin(signIn, "", origin);
    const { text } = await comeBack(signIn, { state, code: "c" }, headers, origin);
    expect(text).toContain("response.cookie-missing");
    expect(text).toMatch(says);
  });

  it("after a restart, where the store forgets", async () => {
    const { signIn, all } = await open();
    const { state, cookie } = await begin(signIn);
    const restarted = await createSignIn({ ...all, store: createMemoryStore() });
    const { text } = await comeBack(restarted, { state, code: "c" }, { cookie });
    expect(text).toContain("response.state-altered");
    expect(text).toContain("createMemoryStore forgets everything");
    // A process that has been there all the while did not forget it.
    const other = await open();
    other.world.now += 700;
    expect((await comeBack(other.signIn, { state, code: "c" }, { cookie })).text).not.toContain(
      "forgets everything",
    );
  });

  it("that fails: to try again leads to the same provider, and back to the same page", async () => {
    const { signIn } = await open();
    const { state, cookie } = await begin(signIn);
    const { text } = await comeBack(signIn, { state, error: "server_error" }, { cookie });
    expect(text).toContain('href="/sign-in/to/quayside?returnTo=%2Ftides"');
  });

  it("that fails for several at once sends each back to a page of their own", async () => {
    const { signIn, world } = await open();
    world.answers.set(
      metadataUrl,
      () => new Promise((resolve) => setTimeout(resolve, 20, new Response("", { status: 500 }))),
    );
    const texts = await Promise.all(
      ["/tides", "/boats"].map(async (path) => {
        const answer = await signIn.handle(
          new Request(`${common.origin}/sign-in/to/quayside?returnTo=${path}`),
        );
        return answer?.text();
      }),
    );
    expect(texts[0]).toContain('href="/sign-in/to/quayside?returnTo=%2Ftides"');
    expect(texts[1]).toContain('href="/sign-in/to/quayside?returnTo=%2Fboats"');
  });

  it("that says no says why, to the developer; the visitor's words fit a refusal, too", async () => {
    for (const development of [true, false]) {
      const { signIn } = await open({ development });
      const { state, cookie } = await begin(signIn);
      const said = { error: "access_denied", error_description: "Members of the club only" };
      const { status, text } = await comeBack(signIn, { state, ...said }, { cookie });
      expect(status).toBe(200);
      expect(text).toContain("cancelled, or not allowed");
      expect(text.includes("Members of the club only")).toBe(development);
    }
  });
});

describe("a page behind protect", () => {
  it("answers a form that comes after the session's end with a page that leads back to the form", async () => {
    const { signIn } = await open();
    const protectedPage = signIn.protect(() => new Response("booked"));
    const post = (headers: Record<string, string>) =>
      protectedPage(new Request(`${common.origin}/book`, { method: "POST", headers }));
    const answer = await post({ accept: "text/html", referer: `${common.origin}/slots?day=2` });
    expect(answer.status).toBe(401);
    const text = await answer.text();
    expect(text).toContain("what you sent was not used");
    expect(text).toContain('href="http://localhost:3000/sign-in?returnTo=%2Fslots%3Fday%3D2"');
    for (const referer of ["https://elsewhere.example/x", `${common.origin}//elsewhere.example`, "nonsense"])
      expect(await (await post({ accept: "text/html", referer })).text()).toContain(
        "returnTo=%2F&quot;".replace("&quot;", '"'),
      );
    expect((await post({ accept: "application/json" })).headers.get("content-type")).toContain("json");
  });

  it("notices that something takes the beginning off its paths, in place of going round in circles", async () => {
    const { signIn } = await open({ basePath: "/club/sign-in" });
    const pageAt = async (path: string) => {
      const headers = { accept: "text/html" };
      const answer = await signIn.protect(() => new Response("in"))(
        new Request(common.origin + path, { headers }),
      );
      return answer.status;
    };
    expect(await pageAt("/tides")).toBe(303);
    expect(await pageAt("/sign-in")).toBe(303);
    expect(await pageAt("/sign-in?returnTo=/tides")).toBe(500);
    expect(await pageAt("/sign-in/to/quayside?returnTo=/tides")).toBe(500);
  });

  it("under a sub-path: who signs in or out without saying where to goes to the app, not to the host's first page", async () => {
    const world = createFakeWorld();
    const store = createMemoryStore();
    const signIn = await createSignIn({
      ...common,
      basePath: "/club/sign-in",
      store,
      platform: world.platform,
    });
    const chooser = await signIn.handle(new Request(`${common.origin}/club/sign-in`));
    expect(await chooser?.text()).toContain("returnTo=%2Fclub");
    const out = await signIn.handle(new Request(`${common.origin}/club/sign-in/out/done`));
    expect(out?.headers.get("location")).toBe("http://localhost:3000/club");
  });
});

describe("a settings file", () => {
  const read = (data: unknown, environment?: string, saidBy?: string, before = "") =>
    problemOf(() =>
      readSettingsText(before + JSON.stringify(data, undefined, 2), "t.json", environment, saidBy),
    );
  const quayside = { issuer, clientId: "ferrywell" };

  it("with several misspelt names has all of them named, each where it stands", async () => {
    const { findings } = await read({
      orgin: "http://localhost:3000",
      basPath: "/x",
      providers: { quayside: { ...quayside, clientSecrt: { env: "X" }, scopes: "openid" } },
    });
    expect(findings?.map(({ path, message }) => [path, /"(\w+)"/.exec(message)?.[1]])).toEqual(
      expect.arrayContaining([
        ["orgin", "origin"],
        ["basPath", "basePath"],
        ["providers.quayside.clientSecrt", "clientSecret"],
        ["providers.quayside.scopes", "scope"],
      ]),
    );
    expect(findings?.every(({ place }) => /^t\.json:\d+:\d+$/.test(place ?? ""))).toBe(true);
  });

  it("with a byte order mark is read", () => {
    const text = `\ufeff${JSON.stringify({ origin: "http://localhost:3000", providers: { quayside } })}`;
    expect(readSettingsText(text, "t.json").settings.origin).toBe("http://localhost:3000");
  });

  it("whose environment is chosen by a variable that nobody thought of", async () => {
    const data = {
      environments: { sandbox: { origin: "http://localhost:3000" }, live: {} },
      providers: { quayside },
    };
    const { findings } = await read(data, "lve", "the environment variable TENONSAW_ENV");
    expect(findings?.[0]?.message).toMatch(
      /^the environment variable TENONSAW_ENV is "lve".*did you mean "live"/,
    );
    const plain = { origin: "http://localhost:3000", providers: { quayside } };
    const none = await read(plain, "live", "the environment variable TENONSAW_ENV");
    expect(none.findings?.[0]?.message).toMatch(/TENONSAW_ENV is "live"/);
  });
});

it("a cause that there is not changes nothing", () => {
  const general = describeProblem("grant.client-refused");
  expect({ ...describeProblem("grant.client-refused", { because: "toString" }), because: undefined }).toEqual(
    {
      ...general,
      because: undefined,
    },
  );
});
