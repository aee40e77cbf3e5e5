import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
  noon,
  openFakeProvider,
  problemOf,
  type FakeAnswer,
} from "../../../../tests/support/fake-world.js";
import { beginSignIn } from "../attempt/index.js";
import type { ProviderSettings } from "../provider/index.js";
import { exchangeCode, refreshGrant, revokeGrant, type Grant } from "./index.js";

const tokens = {
  access_token: "at-1",
  token_type: "Bearer",
  expires_in: 30,
  refresh_token: "rt-1",
  id_token: "it-1",
};
const grant: Grant = {
  issuer,
  clientId: "ferrywell",
  accessToken: "at-0",
  refreshToken: "rt-0",
  idToken: "it-0",
  scope: "openid tides.read",
  obtainedAt: noon,
};

async function setUp(answer: FakeAnswer, settings: Partial<ProviderSettings> = {}) {
  const world = createFakeWorld();
  const provider = await openFakeProvider(world, [], settings);
  world.answers.set(`${issuer}/token`, answer);
  const { attempt } = await beginSignIn(provider, { redirectUri: "https://ferrywell.example/back" });
  const last = () => {
    const { init } = world.requests.at(-1)!;
    return {
      headers: new Headers(init.headers),
      form: Object.fromEntries(new URLSearchParams(init.body as string)),
    };
  };
  return { world, provider, attempt, last, exchange: () => exchangeCode(provider, attempt, "c0de") };
}

const html = (status: number) =>
  new Response("<h1>Hi</h1>", { status, headers: { "content-type": "text/html" } });
const error = (status: number, code: string) =>
  Response.json({ error: code, error_description: "why" }, { status });

describe("exchangeCode", () => {
  it("sends code, redirect URI and verifier, and reads the tokens", async () => {
    const { exchange, last, attempt } = await setUp(Response.json(tokens));
    expect(await exchange()).toEqual({
      issuer,
      clientId: "ferrywell",
      accessToken: "at-1",
      refreshToken: "rt-1",
      idToken: "it-1",
      scope: "openid",
      obtainedAt: noon,
      expiresAt: noon + 30,
    });
    expect(last().form).toEqual({
      grant_type: "authorization_code",
      code: "c0de",
      redirect_uri: attempt.redirectUri,
      code_verifier: attempt.codeVerifier,
    });
  });

  it.each<[ProviderSettings["clientAuthentication"] & string, string | null, object]>([
    ["client_secret_basic", `Basic ${btoa("ferry%3Awell:s%C3%A9+cret%25")}`, {}],
    ["client_secret_post", null, { client_id: "ferry:well", client_secret: "sé cret%" }],
    ["none", null, { client_id: "ferry:well" }],
  ])("authenticates with %s", async (clientAuthentication, header, members) => {
    const settings = { clientAuthentication, clientId: "ferry:well", clientSecret: "sé cret%" };
    const { exchange, last } = await setUp(Response.json(tokens), settings);
    await exchange();
    expect(last().headers.get("authorization")).toBe(header);
    const { client_id, client_secret } = last().form;
    expect({ client_id, client_secret }).toEqual({
      client_id: undefined,
      client_secret: undefined,
      ...members,
    });
  });

  it.each<[string, object, number | undefined]>([
    ["a lifetime as text", { expires_in: "90" }, noon + 90],
    ["a lifetime of zero", { expires_in: 0 }, noon],
    ["a lifetime beyond what anything can count", { expires_in: 1e300 }, 253_402_300_799],
    ["no lifetime", { expires_in: undefined }, undefined],
    ["bearer in lower case", { token_type: "bearer" }, noon + 30],
    ["members it does not know", { note: { x: 1 } }, noon + 30],
  ])("takes %s", async (_, change, expiresAt) => {
    const { exchange } = await setUp(Response.json({ ...tokens, ...change }));
    expect((await exchange()).expiresAt).toBe(expiresAt);
  });

  it.each<[string, FakeAnswer, string]>([
    ["no access token", Response.json({ token_type: "Bearer" }), "grant.answer-refused"],
    ["an empty access token", Response.json({ ...tokens, access_token: "" }), "grant.answer-refused"],
    ["no token type", Response.json({ ...tokens, token_type: undefined }), "grant.answer-refused"],
    ...Object.entries({
      access_token: ["at\nx", "at x", "\u00e4t", 7, ["at"]],
      refresh_token: ["rt\r", "\u00e4", {}],
      token_type: ["Bea\nrer", " ", 7],
      scope: ['a"b', "a\\b", "a\tb", ["a"]],
    }).flatMap(([name, values]) =>
      values.map((value): [string, FakeAnswer, string] => [
        `${name} ${JSON.stringify(value)}`,
        Response.json({ ...tokens, [name]: value }),
        "grant.answer-refused",
      ]),
    ),
    ["a negative lifetime", Response.json({ ...tokens, expires_in: -1 }), "grant.answer-refused"],
    ["a lifetime in words", Response.json({ ...tokens, expires_in: "an hour" }), "grant.answer-refused"],
    ["a lifetime that is no number", Response.json({ ...tokens, expires_in: null }), "grant.answer-refused"],
    ["an error with status 200", Response.json({ error: "invalid_grant" }), "grant.answer-refused"],
    ["another token type", Response.json({ ...tokens, token_type: "mac" }), "grant.token-type-refused"],
    ["a member twice", new Response('{"access_token":"a","access_token":"b"}'), "jose.duplicate-member"],
    ["a web page", html(200), "platform.not-json"],
    ["a web page with status 404", html(404), "platform.not-json"],
    ["an empty answer", new Response(""), "platform.not-json"],
    ["a redirect", new Response(null, { status: 302 }), "platform.redirected"],
    ["50 MB", () => new Response(new Uint8Array(50_000_000)), "platform.answer-too-large"],
    ["invalid_client", error(401, "invalid_client"), "grant.client-refused"],
    ["invalid_grant", error(400, "invalid_grant"), "grant.code-refused"],
    ["another error", error(400, "invalid_scope"), "grant.provider-error"],
    ["status 400 without a code", Response.json({}, { status: 400 }), "grant.provider-error"],
    ["status 500", html(500), "grant.unavailable"],
    ["status 503 with an error code", error(503, "temporarily_unavailable"), "grant.unavailable"],
    ["status 429", new Response("", { status: 429 }), "grant.unavailable"],
    ["no connection", new TypeError("down"), "platform.unreachable"],
  ])("refuses %s", async (_, answer, code) => {
    const { exchange } = await setUp(answer);
    const problem = await problemOf(exchange);
    expect(problem.code).toBe(code);
    expect(JSON.stringify(problem)).not.toMatch(/c0de|at-1|only-for-tests/);
  });
});

it.each<[string, FakeAnswer, string | undefined, string]>([
  [
    "a refusal in words of its own",
    Response.json({ message: "Suspended" }, { status: 403 }),
    "no-code",
    'message "Suspended"',
  ],
  [
    "an error that is an object",
    Response.json({ error: { why: "late" } }, { status: 400 }),
    "no-code",
    'error.why "late"',
  ],
  ["another method", new Response("", { status: 405 }), "not-there", "status 405"],
  ["a text of its own", new Response("Secret has run out", { status: 401 }), "no-code", "Secret has run out"],
  ["that nothing is there", new Response("404 Not Found", { status: 404 }), "not-there", '"404 Not Found"'],
  ["tokens with status 201", Response.json(tokens, { status: 201 }), "other-status", "status 201"],
  [
    "a grant type that is not allowed",
    error(400, "unauthorized_client"),
    "grant-type",
    "unauthorized_client",
  ],
  ["a scope that is not allowed", error(400, "invalid_scope"), "scope", "invalid_scope"],
  ["another error", error(400, "invalid_request"), undefined, "invalid_request"],
])("what the provider said, and which cause it is, is not lost: %s", async (_, answer, because, said) => {
  const { exchange } = await setUp(answer);
  const problem = await problemOf(exchange);
  expect(problem).toMatchObject({
    code: "grant.provider-error",
    received: expect.stringContaining(said) as string,
  });
  expect(problem.because).toBe(because);
  expect(problem.received).not.toContain("at-1");
});

it("says of what kind a member is that cannot be used, and of which status", async () => {
  const findingOf = async (changes: object) => {
    const { exchange } = await setUp(Response.json({ ...tokens, ...changes }));
    return (await problemOf(exchange)).findings?.[0]?.message;
  };
  expect(await findingOf({ scope: ["a"] })).toBe("must not be a list");
  expect(await findingOf({ id_token: "" })).toBe("must not be empty");
  expect(await findingOf({ access_token: "at\nx" })).toBe(
    "must not be a text with such characters, or of such a length",
  );
  const { exchange } = await setUp(new Response("<title>Oops", { status: 502 }));
  expect((await problemOf(exchange)).received).toContain('status 502, which is a page titled "Oops"');
});

describe("a grant that is to be bound to a key", () => {
  it("is refused as a bearer token, which would protect less", async () => {
    const { exchange, last } = await setUp(Response.json(tokens), { dpopBoundAccessTokens: true });
    expect(await problemOf(exchange)).toMatchObject({
      code: "grant.token-type-refused",
      expected: expect.stringContaining("DPoP") as string,
    });
    expect(last().headers.get("dpop")).not.toBeNull();
  });

  it("is not taken where none was asked for", async () => {
    const { exchange, last } = await setUp(Response.json({ ...tokens, token_type: "DPoP" }));
    expect((await problemOf(exchange)).code).toBe("grant.token-type-refused");
    expect(last().headers.get("dpop")).toBeNull();
  });
});

describe("refreshGrant", () => {
  it("keeps the refresh token and the scope that the answer does not replace", async () => {
    const { provider, last } = await setUp(
      Response.json({ access_token: "at-1", token_type: "Bearer", id_token: "it-other" }),
    );
    expect(await refreshGrant(provider, grant)).toMatchObject({
      accessToken: "at-1",
      refreshToken: "rt-0",
      idToken: "it-other",
      scope: "openid tides.read",
    });
    expect(last().form).toEqual({ grant_type: "refresh_token", refresh_token: "rt-0" });
  });

  it("takes a rotated refresh token", async () => {
    const { provider } = await setUp(Response.json(tokens));
    expect((await refreshGrant(provider, grant)).refreshToken).toBe("rt-1");
  });

  it("tells a refusal from other errors", async () => {
    const { provider } = await setUp(Response.json({ error: "invalid_grant" }, { status: 400 }));
    expect((await problemOf(() => refreshGrant(provider, grant))).code).toBe("grant.refresh-refused");
    const { refreshToken: _none, ...bare } = grant;
    expect((await problemOf(() => refreshGrant(provider, bare))).code).toBe("grant.no-refresh-token");
  });
});

describe("revokeGrant", () => {
  it("revokes the refresh token, or the access token where there is none", async () => {
    const { world, provider, last } = await setUp(Response.json(tokens));
    world.answers.set(`${issuer}/revoke`, new Response());
    expect(await revokeGrant(provider, grant)).toBe(true);
    expect(last().form).toEqual({ token: "rt-0", token_type_hint: "refresh_token" });
    const { refreshToken: _none, ...bare } = grant;
    await revokeGrant(provider, bare);
    expect(last().form).toEqual({ token: "at-0", token_type_hint: "access_token" });
  });

  it("sends nothing that is no grant, and does not say that it was taken back", async () => {
    const { world, provider } = await setUp(Response.json(tokens));
    world.answers.set(`${issuer}/revoke`, new Response());
    const before = world.requests.length;
    for (const [none, because] of [
      [undefined, undefined],
      [null, undefined],
      ["rt-0", undefined],
      [{ kind: "granted", grant }, "outcome"],
      [Promise.resolve(grant), "promise"],
    ] as [never, string | undefined][])
      for (const work of [() => revokeGrant(provider, none), () => refreshGrant(provider, none)]) {
        const problem = await problemOf(work);
        expect([problem.code, problem.because]).toEqual(["grant.not-a-grant", because]);
      }
    expect(world.requests).toHaveLength(before);
  });

  it("says so when the provider cannot or will not", async () => {
    const { world, provider } = await setUp(Response.json(tokens));
    const { revocation_endpoint: _none, ...without } = provider.metadata;
    expect(await revokeGrant({ ...provider, metadata: without }, grant)).toBe(false);
    world.answers.set(`${issuer}/revoke`, Response.json({ error: "unauthorized_client" }, { status: 400 }));
    expect((await problemOf(() => revokeGrant(provider, grant))).code).toBe("grant.revocation-refused");
    // RFC 7009 section 2.2.1: the token is still there.
    const headers = { "retry-after": "7" };
    world.answers.set(`${issuer}/revoke`, new Response("", { status: 503, headers }));
    expect(await problemOf(() => revokeGrant(provider, grant))).toMatchObject({
      code: "provider.unavailable",
      retryAfterSeconds: 7,
    });
  });
});
