import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { beginSignIn, finishSignIn, openProvider, type ProviderSettings } from "tenonsaw";
import { createVisitor, defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import type { SignatureAlgorithm } from "tenonsaw/platform";
import {
  createFakeWorld,
  createTestKey,
  issuer,
  metadata,
  problemOf,
  type FakeWorld,
} from "./support/fake-world.js";
import { newKeyPair } from "../scripts/key-pair.mjs";

const redirectUri = "https://ferrywell.example/sign-in/from/quayside";
const own = createTestKey("ES256", "own");
const theirs = createTestKey("ES256", "theirs");

/** A provider by the profile, in a world whose network is a table. */
async function open(world: FakeWorld, changes: object = {}, published: object = {}) {
  world.answers.set(
    `${issuer}/.well-known/openid-configuration`,
    Response.json({ ...metadata, ...published }),
  );
  world.answers.set(`${issuer}/keys`, Response.json({ keys: [theirs.publicJwk] }));
  return openProvider(
    {
      issuer,
      clientId: "ferrywell",
      securityProfile: "fapi2",
      clientKeys: JSON.stringify(own.privateJwk),
      ...changes,
    },
    { platform: world.platform },
  );
}

/** Begins a sign-in; what was pushed, and where the browser is sent. */
async function begin(world: FakeWorld, changes: object = {}, published: object = {}) {
  const provider = await open(world, changes, published);
  world.answers.set(
    `${issuer}/push`,
    Response.json({ request_uri: "urn:request:1", expires_in: 60 }, { status: 201 }),
  );
  const { url, attempt } = await beginSignIn(provider, { redirectUri });
  const push = world.requests.find((request) => request.url === `${issuer}/push`);
  return {
    provider,
    attempt,
    url: new URL(url),
    pushed: new URLSearchParams(push?.init.body as string | undefined),
  };
}

const payloadOf = (token: string) =>
  JSON.parse(Buffer.from(token.split(".")[1] ?? "", "base64url").toString()) as Record<string, unknown>;
const headerOf = (token: string) =>
  JSON.parse(Buffer.from(token.split(".")[0] ?? "", "base64url").toString()) as Record<string, unknown>;

/** FAPI 2.0 Security Profile: what it asks of clients, section by section. */
describe("securityProfile fapi2", () => {
  it("5.3.3.1: binds access tokens, to a key or to a certificate", async () => {
    const byKey = await open(createFakeWorld());
    expect([byKey.bindsTokens, byKey.clientAuthentication]).toEqual([true, "private_key_jwt"]);
    const byCertificate = await open(createFakeWorld(), {
      clientAuthentication: "tls_client_auth",
      clientKeys: undefined,
    });
    expect(byCertificate.bindsTokens).toBe(false);
    const both = await open(createFakeWorld(), {
      clientAuthentication: "tls_client_auth",
      clientKeys: undefined,
      dpopBoundAccessTokens: true,
    });
    expect(both.bindsTokens).toBe(true);
  });

  it("5.3.3.1: does not take an access token that is not bound", async () => {
    const world = createFakeWorld();
    const { provider, attempt } = await begin(world);
    world.answers.set(
      `${issuer}/token`,
      Response.json({ access_token: "at", token_type: "Bearer", id_token: "x.y.z" }),
    );
    const callback = new URLSearchParams({ state: attempt.state, code: "c", iss: issuer });
    expect(await finishSignIn(provider, attempt, callback)).toMatchObject({
      kind: "failed",
      problem: { code: "grant.token-type-refused" },
    });
  });

  it.each(["client_secret_basic", "client_secret_post", "client_secret_jwt", "none"])(
    "5.3.3.1: proves itself by a key or certificate, and never by %s",
    async (clientAuthentication) => {
      const { code, findings } = await problemOf(() =>
        open(createFakeWorld(), { clientAuthentication, clientSecret: "a secret" }),
      );
      expect([code, findings]).toEqual([
        "provider.settings-refused",
        [expect.objectContaining({ path: "clientAuthentication" })],
      ]);
    },
  );

  it("5.3.3.1: needs the key it proves itself by", async () => {
    const { findings } = await problemOf(() => open(createFakeWorld(), { clientKeys: undefined }));
    expect(findings).toMatchObject([{ path: "clientKeys" }]);
  });

  it("5.3.3.1: names the issuer, as text, as the audience of its assertions", async () => {
    const { pushed } = await begin(createFakeWorld());
    const assertion = pushed.get("client_assertion") ?? "";
    expect(payloadOf(assertion)).toMatchObject({ iss: "ferrywell", sub: "ferrywell", aud: issuer });
  });

  it("5.3.3.1: sends access tokens in the header only", async () => {
    const world = createFakeWorld();
    const { provider, attempt } = await begin(world);
    const idToken = await theirs.sign({
      iss: issuer,
      sub: "qs-1",
      aud: "ferrywell",
      iat: world.now,
      exp: world.now + 60,
      nonce: attempt.nonce,
    });
    world.answers.set(
      `${issuer}/token`,
      Response.json({ access_token: "a-token", token_type: "DPoP", id_token: idToken }),
    );
    world.answers.set(`${issuer}/userinfo`, Response.json({ sub: "qs-1" }));
    const callback = new URLSearchParams({ state: attempt.state, code: "c", iss: issuer });
    expect(await finishSignIn(provider, attempt, callback)).toMatchObject({ kind: "granted" });
    const userinfo = world.requests.find(({ url }) => url.includes("/userinfo"));
    expect(new Headers(userinfo?.init.headers).get("authorization")).toBe("DPoP a-token");
    expect(world.requests.some(({ url }) => url.includes("a-token"))).toBe(false);
  });

  it("5.3.3.2: uses the code flow with PKCE S256 and a nonce of at most 64 characters, in a pushed request", async () => {
    const { url, pushed } = await begin(createFakeWorld());
    // Nothing but the reference is in the address.
    expect([...url.searchParams.keys()].sort()).toEqual(["client_id", "request_uri"]);
    expect(Object.fromEntries(pushed)).toMatchObject({
      response_type: "code",
      code_challenge_method: "S256",
    });
    expect(pushed.get("code_challenge")).toMatch(/^[\w-]{43}$/);
    expect(pushed.get("nonce")).toMatch(/^[\w-]{43,64}$/);
  });

  it.each([
    ["responseType", { responseType: "code id_token" }],
    ["requirePushedAuthorizationRequests", { requirePushedAuthorizationRequests: false }],
  ])("5.3.3.2: has no other flow: %s", async (path, changes) => {
    const { findings } = await problemOf(() => open(createFakeWorld(), changes));
    expect(findings).toMatchObject([{ path }]);
  });

  it("5.3.3.2: refuses an answer without issuer, promised or not, and one of another issuer", async () => {
    const { provider, attempt } = await begin(
      createFakeWorld(),
      {},
      { authorization_response_iss_parameter_supported: false },
    );
    const without = new URLSearchParams({ state: attempt.state, code: "c" });
    expect(await finishSignIn(provider, attempt, without)).toMatchObject({
      problem: { code: "response.issuer-missing" },
    });
    const other = new URLSearchParams({ state: attempt.state, code: "c", iss: `${issuer}/` });
    expect(await finishSignIn(provider, attempt, other)).toMatchObject({
      problem: { code: "response.issuer-mismatch" },
    });
  });

  it.each([
    [
      "discovery",
      {
        discovery: "none",
        metadata: {
          authorizationEndpoint: `${issuer}/a`,
          tokenEndpoint: `${issuer}/t`,
          jwksUri: `${issuer}/k`,
        },
      },
    ],
    ["metadata.tokenEndpoint", { metadata: { tokenEndpoint: "https://elsewhere.example/token" } }],
    ["deviations.expectedIssuer", { deviations: { expectedIssuer: "https://elsewhere.example" } }],
    ["deviations.metadataUrl", { deviations: { metadataUrl: "https://elsewhere.example/metadata" } }],
  ])("5.3.3.2: takes endpoints from the issuer's own metadata only: %s", async (path, changes) => {
    const { findings = [] } = await problemOf(() => open(createFakeWorld(), changes));
    expect(findings.map((finding) => finding.path)).toContain(path);
  });

  it("5.3.3.2: compares the issuer of the metadata with the one that was asked", async () => {
    const { code } = await problemOf(() => open(createFakeWorld(), {}, { issuer: `${issuer}/` }));
    expect(code).toBe("provider.issuer-mismatch");
  });

  it.each<[SignatureAlgorithm]>([["RS256"], ["ES384"], ["PS512"]])(
    "5.4.1: signs nothing with %s",
    async (algorithm) => {
      const key = JSON.stringify(createTestKey(algorithm, "own").privateJwk);
      const { findings } = await problemOf(() => open(createFakeWorld(), { clientKeys: key }));
      expect(findings).toMatchObject([
        { path: "clientKeys", message: expect.stringContaining(algorithm) as string },
      ]);
    },
  );

  it.each<[SignatureAlgorithm]>([["PS256"], ["ES256"], ["EdDSA"]])(
    "5.4.1: signs with %s",
    async (algorithm) => {
      const key = JSON.stringify(createTestKey(algorithm, "own").privateJwk);
      const { pushed } = await begin(createFakeWorld(), { clientKeys: key });
      expect(headerOf(pushed.get("client_assertion") ?? "")).toMatchObject({ alg: algorithm, kid: "own" });
    },
  );

  it("5.4.1: admits no ID token with a weaker signature", async () => {
    const offers = (...algorithms: readonly string[]) => ({
      id_token_signing_alg_values_supported: algorithms,
    });
    expect((await open(createFakeWorld(), {}, offers("RS256", "ES256"))).signatureAlgorithms).toEqual([
      "ES256",
    ]);
    const { code } = await problemOf(() => open(createFakeWorld(), {}, offers("RS256", "ES384")));
    expect(code).toBe("provider.metadata-refused");
    const { findings } = await problemOf(() =>
      open(createFakeWorld(), { idTokenSignedResponseAlg: "RS256" }),
    );
    expect(findings).toMatchObject([{ path: "idTokenSignedResponseAlg" }]);
  });

  it("5.4.2: takes no RSA key below 2048 bits", async () => {
    const world = createFakeWorld();
    const { privateKey } = newKeyPair("rsa", { modulusLength: 1024 });
    const weak = JSON.stringify({ ...privateKey.export({ format: "jwk" }), alg: "PS256", kid: "weak" });
    expect(await problemOf(() => begin(world, { clientKeys: weak }))).toMatchObject({
      code: "provider.client-key-refused",
      received: "key weak: RSA with 1024 bits",
    });
  });

  it("5.2.1: speaks TLS, loopback excepted", async () => {
    const { code } = await problemOf(() => open(createFakeWorld(), { issuer: "http://id.quayside.example" }));
    expect(code).toBe("provider.settings-refused");
  });

  it("leaves settings without it as they are", async () => {
    const provider = await open(createFakeWorld(), { securityProfile: undefined });
    expect([provider.bindsTokens, provider.pushesRequests]).toEqual([false, false]);
  });
});

describe("a sign-in by the profile", () => {
  let practice: Practice;
  beforeAll(async () => {
    practice = await startPractice({ algorithm: "ES256" });
  });
  afterAll(() => practice.stop());

  it("goes through with a key as the only thing to register", async () => {
    const back = "http://localhost:5173/back";
    const { clientSecret: _none, ...client } = defaultClient;
    practice.register({ ...client, publicKeys: [own.publicJwk], redirectUris: [back] });
    const settings: ProviderSettings = {
      issuer: practice.issuer,
      clientId: "ferrywell",
      securityProfile: "fapi2",
      clientKeys: JSON.stringify(own.privateJwk),
      scope: "openid profile offline_access tides.read",
    };
    const provider = await openProvider(settings);
    const { url, attempt } = await beginSignIn(provider, { redirectUri: back });
    const visitor = createVisitor();
    await visitor.open(url);
    const { text } = await visitor.press("Maren");
    const request = /name="request" value="([^"]+)"/.exec(text)?.[1] ?? "";
    const body = new URLSearchParams({ request, decision: "allow" });
    const answer = await visitor.fetch(`${practice.issuer}/authorize/decision`, { method: "POST", body });
    const outcome = await finishSignIn(provider, attempt, answer.headers.get("location") ?? "");
    expect(outcome.kind === "failed" ? outcome.problem : undefined).toBeUndefined();
    expect(outcome).toMatchObject({ kind: "granted", identity: { subject: "qs-10231" } });
    if (outcome.kind === "granted") expect(payloadOf(outcome.grant.accessToken)).toHaveProperty("cnf.jkt");
  });
});
