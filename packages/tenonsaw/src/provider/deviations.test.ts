import { describe, expect, it } from "vitest";
import {
  clientId,
  createFakeWorld,
  createTestKey,
  issuer,
  metadata,
  noon,
  problemOf,
  type FakeAnswer,
} from "../../../../tests/support/fake-world.js";
import { beginSignIn } from "../attempt/index.js";
import { finishSignIn } from "../identity/index.js";
import { isProblem } from "../problem/index.js";
import { openProvider, type ProviderSettings } from "./index.js";

const key = createTestKey("ES256");
const wellKnown = `${issuer}/.well-known/openid-configuration`;
const tokens = { access_token: "at-1", token_type: "Bearer", expires_in: 30 };

interface Oddity {
  readonly settings?: Partial<ProviderSettings>;
  readonly metadata?: object;
  /** The token answer; `undefined` members are left out. */
  readonly tokens?: object;
  readonly claims?: object;
  readonly callback?: Readonly<Record<string, string>>;
  readonly alsoReturned?: string;
}

/** A whole sign-in at a provider that is odd in one way. */
async function signIn(oddity: Oddity) {
  const world = createFakeWorld();
  world.answers.set(wellKnown, Response.json({ ...metadata, ...oddity.metadata }));
  world.answers.set(`${issuer}/keys`, Response.json({ keys: [key.publicJwk] }));
  world.answers.set(`${issuer}/userinfo`, Response.json({ sub: "qs-10231" }));
  const provider = await openProvider(
    { issuer, clientId, clientSecret: "s:c", ...oddity.settings },
    { platform: world.platform },
  );
  const { url, attempt } = await beginSignIn(provider, { redirectUri: "https://ferrywell.example/back" });
  const claims = {
    iss: issuer,
    sub: "qs-10231",
    aud: clientId,
    iat: noon,
    exp: noon + 60,
    nonce: attempt.nonce,
  };
  const id_token = await key.sign({ ...claims, ...oddity.claims });
  const answer = oddity.tokens ?? {};
  world.answers.set(
    `${issuer}/token`,
    answer instanceof Response ? answer : Response.json({ ...tokens, id_token, ...answer }),
  );
  const query = new URLSearchParams({ code: "c0de", state: attempt.state, iss: issuer, ...oddity.callback });
  if (oddity.alsoReturned) query.append(oddity.alsoReturned, "again");
  const outcome = await finishSignIn(provider, attempt, query);
  const token = world.requests.find((request) => request.url.endsWith("/token"));
  return {
    outcome,
    asked: new URL(url).searchParams,
    authorization: new Headers(token?.init.headers).get("authorization"),
  };
}

const plain = { token_type: "Bearer", access_token: "at-1", id_token: undefined };
const tenantIssuer = `${issuer}/{organisation}/v2`;
const tenants = (admitted: "any" | string[]): Oddity => ({
  settings: {
    issuer: tenantIssuer,
    deviations: { metadataUrl: wellKnown, tenants: { placeholder: "{organisation}", admitted } },
  },
  metadata: { issuer: tenantIssuer },
  claims: { iss: `${issuer}/rowing-club/v2` },
  callback: { iss: `${issuer}/rowing-club/v2` },
});
const other = { iss: "https://other.example" };

/** Each honest provider needs its deviation: without it a problem, with it a sign-in. */
const rows: readonly (readonly [string, Oddity, NonNullable<ProviderSettings["deviations"]>, string])[] = [
  [
    "an issuer that differs from the metadata's",
    { metadata: { issuer: other.iss }, claims: other, callback: other },
    { expectedIssuer: other.iss },
    "provider.issuer-mismatch",
  ],
  [
    "no ID token",
    { settings: { scope: "profile" }, tokens: plain },
    { noIdToken: true },
    "provider.settings-refused",
  ],
  [
    "the identity in the token answer",
    {
      settings: { scope: "profile", profile: { subject: "/user/id" } },
      tokens: { ...plain, user: { id: 7 } },
    },
    { identityInTokenAnswer: true },
    "provider.settings-refused",
  ],
  [
    "an error inside status 200",
    { tokens: { access_token: undefined, error: "invalid_client" } },
    { errorInside200: true },
    "grant.answer-refused",
  ],
  ["no token type", { tokens: { token_type: undefined } }, { tokenTypeAbsent: true }, "grant.answer-refused"],
  [
    "an authentication that is not advertised",
    {
      settings: { clientAuthentication: "client_secret_post" },
      metadata: { token_endpoint_auth_methods_supported: ["client_secret_basic"] },
    },
    { authenticationNotAdvertised: true },
    "provider.metadata-refused",
  ],
];

async function codeOf(oddity: Oddity): Promise<string> {
  try {
    const { outcome } = await signIn(oddity);
    return outcome.kind === "failed" ? outcome.problem.code : outcome.kind;
  } catch (error) {
    if (isProblem(error)) return error.problem.code;
    throw error;
  }
}

describe("deviations", () => {
  it.each(rows)("%s: refused without its deviation, and met with it", async (_, oddity, deviations, code) => {
    expect(await codeOf(oddity)).toBe(code);
    const met = await codeOf({ ...oddity, settings: { ...oddity.settings, deviations } });
    // An error is an error either way; with its deviation it is called by its name.
    expect(met).toBe(deviations.errorInside200 ? "grant.client-refused" : "granted");
  });

  const proved = rows.filter(([, , { noIdToken, identityInTokenAnswer, errorInside200 }]) => {
    return !(noIdToken ?? identityInTokenAnswer ?? errorInside200);
  });
  it.each(proved)("%s: its deviation excuses nothing else", async (_, oddity, deviations) => {
    const settings = { ...oddity.settings, deviations };
    const spoiled = (claims: object) =>
      codeOf({ ...oddity, settings, claims: { ...oddity.claims, ...claims } });
    expect(await spoiled({ nonce: "other" })).toBe("identity.nonce-mismatch");
    expect(await spoiled({ aud: "other" })).toBe("identity.audience-mismatch");
    expect(await spoiled({ iss: "https://evil.example" })).toBe("identity.issuer-mismatch");
    expect(await codeOf({ ...oddity, settings, callback: { state: "other" } })).toBe(
      "response.state-altered",
    );
  });

  it("formEncodedTokenAnswer reads a form, and still wants an access token in it", async () => {
    const form = (body: string) =>
      new Response(body, { headers: { "content-type": "application/x-www-form-urlencoded" } });
    const settings = {
      scope: "profile",
      deviations: { noIdToken: true, formEncodedTokenAnswer: true },
    } as const;
    const strict = { scope: "profile", deviations: { noIdToken: true } } as const;
    const answer = "access_token=at-1&token_type=bearer&expires_in=90";
    expect(await codeOf({ settings: strict, tokens: form(answer) })).toBe("platform.not-json");
    expect(await codeOf({ settings, tokens: form(answer) })).toBe("granted");
    expect(await codeOf({ settings, tokens: form("<!doctype html>") })).toBe("grant.answer-refused");
  });

  it("scopeSeparator joins what is asked and takes apart what is granted", async () => {
    const settings = { scope: "openid permits.read", deviations: { scopeSeparator: "," } } as const;
    const { asked, outcome } = await signIn({ settings, tokens: { scope: "openid,permits.read" } });
    expect(asked.get("scope")).toBe("openid,permits.read");
    expect(outcome).toMatchObject({ grant: { scope: "openid permits.read" } });
  });

  it("basicNotEncoded sends ID and secret as they are", async () => {
    expect((await signIn({})).authorization).toBe(`Basic ${btoa("ferrywell:s%3Ac")}`);
    const { authorization } = await signIn({ settings: { deviations: { basicNotEncoded: true } } });
    expect(authorization).toBe(`Basic ${btoa("ferrywell:s:c")}`);
  });

  it("authorizationParameters, resource and audience go along; the protocol's own cannot be touched", async () => {
    const deviations = { authorizationParameters: { access: "offline" } };
    const settings = { resource: "https://tidebook.example", audience: "tides", deviations };
    const { asked } = await signIn({ settings });
    expect([asked.get("access"), asked.get("resource"), asked.get("audience")]).toEqual([
      "offline",
      "https://tidebook.example",
      "tides",
    ]);
    for (const name of ["state", "redirect_uri", "code_challenge"]) {
      const forbidden = { deviations: { authorizationParameters: { [name]: "x" } } };
      expect(await codeOf({ settings: forbidden })).toBe("provider.settings-refused");
    }
  });

  it("keepCallbackParameters hands on what is named, and only that", async () => {
    const settings = { deviations: { keepCallbackParameters: ["company"] } };
    const { outcome } = await signIn({ settings, callback: { company: "c-7", other: "x" } });
    expect(outcome).toMatchObject({ kind: "granted", kept: { company: "c-7" } });
    expect((await signIn({ callback: { company: "c-7" } })).outcome).toMatchObject({ kept: {} });
    const long = await signIn({ settings, callback: { company: "c".repeat(1025) } });
    expect(long.outcome).toMatchObject({ problem: { code: "response.parameter-too-long" } });
    const doubled = await signIn({ settings, callback: { company: "c-7" }, alsoReturned: "company" });
    expect(doubled.outcome).toMatchObject({ problem: { code: "response.parameter-duplicated" } });
    const forbidden = { deviations: { keepCallbackParameters: ["code"] } };
    expect(await codeOf({ settings: forbidden })).toBe("provider.settings-refused");
  });

  it("tenants admits the tenants named, or any, each an issuer of its own", async () => {
    expect(await codeOf({ ...tenants("any"), settings: {} })).toBe("provider.issuer-mismatch");
    for (const admitted of ["any", "rowing-club"]) {
      const { outcome } = await signIn(tenants(admitted === "any" ? admitted : [admitted]));
      expect(outcome).toMatchObject({ kind: "granted", identity: { issuer: `${issuer}/rowing-club/v2` } });
    }
    const uninvited = { ...tenants(["sailing-club"]), callback: { iss: `${issuer}/sailing-club/v2` } };
    expect(await codeOf(uninvited)).toBe("provider.tenant-refused");
    const odd = ["//v2", "/a/b/v2", "/a?/v2", "/{organisation}/v2"].map((path) => issuer + path);
    for (const iss of [...odd, "https://evil.example/rowing-club/v2"]) {
      expect(await codeOf({ ...tenants("any"), claims: { iss } })).toBe("identity.issuer-mismatch");
      expect(await codeOf({ ...tenants("any"), callback: { iss } })).toBe("response.issuer-mismatch");
    }
  });
});

describe("metadata", () => {
  const open = async (
    settings: Partial<ProviderSettings>,
    answers: Readonly<Record<string, FakeAnswer>> = {},
  ) => {
    const world = createFakeWorld();
    for (const [url, answer] of Object.entries(answers)) world.answers.set(url, answer);
    const provider = await openProvider({ issuer, clientId, ...settings }, { platform: world.platform });
    return { provider, requests: world.requests.map(({ url }) => url) };
  };
  const hand = {
    authorizationEndpoint: `${issuer}/a`,
    tokenEndpoint: `${issuer}/t`,
    keys: [{ ...key.publicJwk }],
    idTokenSigningAlgValuesSupported: ["ES256"],
  };

  it("by hand needs no request, keys included", async () => {
    const { provider, requests } = await open({ discovery: "none", metadata: hand });
    expect(requests).toEqual([]);
    expect(provider.metadata.token_endpoint).toBe(`${issuer}/t`);
    expect(await provider.keys?.find({ alg: "ES256", kid: "key-1" }, "ES256")).toMatchObject({
      algorithm: "ES256",
    });
    const { findings } = await problemOf(() => open({ discovery: "none" }));
    expect(findings?.map(({ path }) => path)).toEqual(
      ["authorizationEndpoint", "tokenEndpoint", "jwksUri"].map((name) => `metadata.${name}`),
    );
  });

  it("by hand wins over what is discovered, and the difference can be seen", async () => {
    const own = { metadata: { tokenEndpoint: `${issuer}/t` } };
    const { provider } = await open(own, { [wellKnown]: Response.json(metadata) });
    expect([provider.metadata.token_endpoint, provider.overridden]).toEqual([
      `${issuer}/t`,
      ["token_endpoint"],
    ]);
  });

  it.each([
    ["https://as.example", "https://as.example/.well-known/oauth-authorization-server"],
    ["https://as.example/", "https://as.example/.well-known/oauth-authorization-server"],
    ["https://as.example/tenant/1", "https://as.example/.well-known/oauth-authorization-server/tenant/1"],
  ])("of the authorization server %s is at %s", async (server, url) => {
    const answer = Response.json({ ...metadata, issuer: server });
    const { requests } = await open({ issuer: server, discovery: "oauth" }, { [url]: answer });
    expect(requests).toEqual([url]);
  });
});
