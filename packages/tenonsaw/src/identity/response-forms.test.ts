import { createHash } from "node:crypto";
import { beforeEach, describe, expect, it } from "vitest";
import {
  clientId,
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  openFakeProvider,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import { beginSignIn, type Attempt, type SignInRequest } from "../attempt/index.js";
import { encryptJwe, publicPart, type Jwk, type JsonObject } from "../jose/index.js";
import type { Provider, ProviderSettings } from "../provider/index.js";
import { finishSignIn, type Outcome } from "./index.js";

const key = createTestKey("ES256");
const decryption: Jwk = { ...createTestKey("ES256", "enc-1").privateJwk, use: "enc", alg: "ECDH-ES+A128KW" };
const clientKeys = JSON.stringify(decryption);
const encrypt = (text: string, provider: Provider) =>
  encryptJwe(
    provider.tools,
    publicPart(decryption),
    { alg: "ECDH-ES+A128KW", enc: "A256GCM", kid: "enc-1", cty: "JWT" },
    text,
  );
const half = (text: string) =>
  createHash("sha256").update(text).digest().subarray(0, 16).toString("base64url");

let world: FakeWorld;
let provider: Provider;
let attempt: Attempt;
beforeEach(() => {
  world = createFakeWorld();
});

async function begin(settings: Partial<ProviderSettings>, request: Partial<SignInRequest> = {}) {
  provider = await openFakeProvider(world, [key], settings);
  ({ attempt } = await beginSignIn(provider, { redirectUri: "https://ferrywell.example/back", ...request }));
  world.answers.set(`${issuer}/userinfo`, Response.json({ sub: "qs-10231", name: "Maren Holt" }));
}

function claims(changes: JsonObject = {}): JsonObject {
  return {
    iss: issuer,
    sub: "qs-10231",
    aud: clientId,
    exp: noon + 300,
    iat: noon,
    nonce: attempt.nonce,
    ...changes,
  };
}
const front = (changes: JsonObject = {}) =>
  key.sign(
    claims({ c_hash: half("c0de"), at_hash: half("at-front"), s_hash: half(attempt.state), ...changes }),
  );

async function answerTokens(changes: JsonObject = {}, idToken?: string) {
  const id_token = idToken ?? (await key.sign(claims(changes)));
  world.answers.set(
    `${issuer}/token`,
    Response.json({ access_token: "at-back", token_type: "Bearer", id_token }),
  );
}

function finish(parameters: Readonly<Record<string, string>>): Promise<Outcome> {
  return finishSignIn(
    provider,
    attempt,
    new URLSearchParams({ state: attempt.state, iss: issuer, ...parameters }),
  );
}
const codeOf = (outcome: Outcome) => (outcome.kind === "failed" ? outcome.problem.code : outcome.kind);
const token = { access_token: "at-front", token_type: "Bearer", expires_in: "30" };
/** The provider's word in front counts for the token in front: less than was asked for. */
const narrow = "openid tides.read";

describe("response types", () => {
  it.each<[NonNullable<ProviderSettings["responseType"]>, string]>([
    ["code id_token", "at-back"],
    ["code token", "at-back"],
    ["code id_token token", "at-back"],
    ["id_token", ""],
    ["id_token token", "at-front"],
  ])("%s: who it is, and the access token that counts", async (responseType, accessToken) => {
    await begin({ responseType });
    await answerTokens();
    const asked = responseType.split(" ");
    const outcome = await finish({
      ...(asked.includes("code") && { code: "c0de" }),
      ...(asked.includes("id_token") && { id_token: await front() }),
      ...(asked.includes("token") && { ...token, scope: narrow }),
    });
    expect(outcome).toMatchObject({
      kind: "granted",
      identity: { subject: "qs-10231" },
      grant: { accessToken, scope: { "": "", "at-front": narrow }[accessToken] ?? "openid" },
    });
    expect(outcome).toHaveProperty("grant.idToken");
    if (accessToken === "at-front") expect(outcome).toHaveProperty("grant.expiresAt", noon + 30);
    // Userinfo takes an access token.
    expect(world.requests.some(({ url }) => url.endsWith("/userinfo"))).toBe(accessToken !== "");
  });

  it("take what only one of two ID tokens says of the authentication", async () => {
    await begin({ responseType: "code id_token" });
    await answerTokens({ acr: "phr" });
    const outcome = await finish({ code: "c0de", id_token: await front({ auth_time: noon - 5 }) });
    expect(outcome).toMatchObject({ identity: { claims: { acr: "phr", auth_time: noon - 5 } } });
  });

  it("reads the fragment of a callback's address", async () => {
    await begin({ responseType: "id_token" });
    const parameters = new URLSearchParams({ state: attempt.state, iss: issuer, id_token: await front() });
    const outcome = await finishSignIn(provider, attempt, `${attempt.redirectUri}#${parameters}`);
    expect(codeOf(outcome)).toBe("granted");
    expect(codeOf(await finishSignIn(provider, attempt, `${attempt.redirectUri}?${parameters}`))).toBe(
      "response.empty",
    );
  });

  // Each row differs from a good answer to `code id_token token` in one thing.
  it.each<[string, JsonObject, Readonly<Record<string, string>>, string]>([
    ["another code", {}, { code: "stolen" }, "identity.code-hash-mismatch"],
    ["no c_hash", { c_hash: undefined }, {}, "identity.code-hash-mismatch"],
    ["another access token", {}, { access_token: "stolen" }, "identity.access-token-hash-mismatch"],
    ["no at_hash", { at_hash: undefined }, {}, "identity.access-token-hash-mismatch"],
    ["the hash of another state", { s_hash: half("other") }, {}, "identity.state-hash-mismatch"],
    ["another nonce", { nonce: "other" }, {}, "identity.nonce-mismatch"],
    ["another audience", { aud: "other" }, {}, "identity.audience-mismatch"],
    ["no ID token", {}, { id_token: "" }, "response.code-missing"],
    ["no code", {}, { code: "" }, "response.code-missing"],
    ["another token type", {}, { token_type: "mac" }, "grant.token-type-refused"],
    ["another subject at the token endpoint", { sub: "qs-10447" }, {}, "identity.channels-differ"],
    ["another time of authentication there", { auth_time: 1 }, {}, "identity.channels-differ"],
  ])("refuse %s", async (_, changes, parameters, code) => {
    await begin({ responseType: "code id_token token" });
    await answerTokens({ auth_time: noon });
    const id_token = await front({ auth_time: noon, ...changes });
    expect(codeOf(await finish({ code: "c0de", id_token, ...token, ...parameters }))).toBe(code);
  });

  it("refuse a token that nobody asked for, and never use its code", async () => {
    await begin({});
    await answerTokens();
    const before = world.requests.length;
    expect(codeOf(await finish({ code: "c0de", ...token }))).toBe("response.token-unasked");
    expect(world.requests).toHaveLength(before);
  });

  it("need no s_hash, but one that fits", async () => {
    await begin({ responseType: "id_token" });
    expect(codeOf(await finish({ id_token: await front({ s_hash: undefined }) }))).toBe("granted");
  });
});

describe("signed answers", () => {
  const settings = { responseMode: "query.jwt" } as const;
  const pack = (changes: JsonObject = {}, using = key) =>
    using.sign({
      iss: issuer,
      aud: clientId,
      exp: noon + 600,
      code: "c0de",
      state: attempt.state,
      ...changes,
    });
  const finishWith = (parameters: Readonly<Record<string, string>>) =>
    finishSignIn(provider, attempt, new URLSearchParams(parameters));

  it("are opened, and nothing beside them counts", async () => {
    await begin(settings);
    await answerTokens();
    const response = await pack();
    expect(codeOf(await finishWith({ response, error: "access_denied", state: "other" }))).toBe("granted");
    expect(
      codeOf(await finishWith({ response: await pack({ code: undefined, error: "access_denied" }) })),
    ).toBe("declined");
  });

  it.each<[string, () => Promise<string>, string, string?]>([
    ["another issuer", () => pack({ iss: "https://evil.example" }), "response.issuer-mismatch"],
    ["another audience", () => pack({ aud: "other" }), "response.jwt-refused", "audience"],
    ["no audience", () => pack({ aud: undefined }), "response.jwt-refused", "audience"],
    ["an end that is over", () => pack({ exp: noon - 60 }), "response.jwt-refused", "time"],
    ["no end", () => pack({ exp: undefined }), "response.jwt-refused", "time"],
    ["another's signature", () => pack({}, createTestKey("ES256")), "jose.signature-mismatch"],
    ["another state", () => pack({ state: "other" }), "response.state-altered"],
    ["nothing", async () => "", "response.not-signed"],
  ])("are refused with %s", async (_, response, code, because) => {
    await begin(settings);
    await answerTokens();
    const outcome = await finishWith({ response: await response() });
    expect(outcome).toMatchObject({ problem: { code, ...(because !== undefined && { because }) } });
  });

  it("are good for as long as clocks may differ", async () => {
    await begin(settings);
    await answerTokens();
    expect(codeOf(await finishWith({ response: await pack({ exp: noon - 59 }) }))).toBe("granted");
  });

  it("are required where they were agreed: a plain answer is nobody's", async () => {
    await begin(settings);
    expect(codeOf(await finish({ code: "c0de" }))).toBe("response.not-signed");
    const twice = new URLSearchParams([
      ["response", "a"],
      ["response", "b"],
    ]);
    expect(codeOf(await finishSignIn(provider, attempt, twice))).toBe("response.parameter-duplicated");
  });

  it("may be encrypted, and then have to be", async () => {
    await begin({
      ...settings,
      clientKeys,
      clientAuthentication: "client_secret_basic",
      authorizationEncryptedResponseAlg: "ECDH-ES+A128KW",
    });
    await answerTokens();
    expect(codeOf(await finishWith({ response: await encrypt(await pack(), provider) }))).toBe("granted");
    expect(codeOf(await finishWith({ response: await pack() }))).toBe("jose.not-encrypted");
  });
});

describe("encrypted ID tokens", () => {
  const settings = {
    clientKeys,
    clientAuthentication: "client_secret_basic",
    idTokenEncryptedResponseAlg: "ECDH-ES+A128KW",
  } as const;

  it("are decrypted with the app's own key, and then checked like any other", async () => {
    await begin(settings);
    await answerTokens({}, await encrypt(await key.sign(claims()), provider));
    expect(codeOf(await finish({ code: "c0de" }))).toBe("granted");
    await answerTokens({}, await encrypt(await key.sign(claims({ aud: "other" })), provider));
    expect(codeOf(await finish({ code: "c0de" }))).toBe("identity.audience-mismatch");
    await answerTokens({}, await encrypt("tides", provider));
    expect(codeOf(await finish({ code: "c0de" }))).toBe("jose.not-compact");
  });

  it("are required where they were agreed, and refused where they were not", async () => {
    await begin(settings);
    await answerTokens();
    expect(codeOf(await finish({ code: "c0de" }))).toBe("jose.not-encrypted");
    const token = await encrypt(await key.sign(claims()), provider);
    await begin({});
    await answerTokens({}, token);
    expect(codeOf(await finish({ code: "c0de" }))).toBe("jose.encrypted");
  });

  it("may be encrypted with the client secret", async () => {
    await begin({ idTokenEncryptedResponseAlg: "A128KW" });
    const secret = createHash("sha256").update("only-for-tests").digest().subarray(0, 16);
    const wrapped = await encryptJwe(
      provider.tools,
      new Uint8Array(secret),
      { alg: "A128KW", enc: "A128CBC-HS256" },
      await key.sign(claims()),
    );
    await answerTokens({}, wrapped);
    expect(codeOf(await finish({ code: "c0de" }))).toBe("granted");
  });
});

describe("userinfo", () => {
  const jwt = (text: string) => new Response(text, { headers: { "content-type": "application/jwt" } });
  const finishWith = async (answer: Response) => {
    await answerTokens();
    world.answers.set(`${issuer}/userinfo`, answer);
    return finish({ code: "c0de" });
  };
  const signed = (changes: JsonObject = {}) =>
    key.sign({ sub: "qs-10231", name: "Maren", iss: issuer, aud: clientId, ...changes });

  it("is taken signed where that is registered, and nothing else then", async () => {
    await begin({ userinfoSignedResponseAlg: "ES256" });
    expect(await finishWith(jwt(await signed()))).toMatchObject({ identity: { profile: { name: "Maren" } } });
    expect(codeOf(await finishWith(Response.json({ sub: "qs-10231" })))).toBe("identity.userinfo-refused");
    expect(codeOf(await finishWith(jwt(await signed({ sub: "qs-10447" }))))).toBe(
      "identity.userinfo-subject-mismatch",
    );
    expect(codeOf(await finishWith(jwt(await signed({ aud: "other" }))))).toBe("identity.audience-mismatch");
    expect(codeOf(await finishWith(jwt(await signed({ iss: "https://evil.example" }))))).toBe(
      "identity.issuer-mismatch",
    );
    const forged = await createTestKey("ES256").sign({ sub: "qs-10231" });
    expect(codeOf(await finishWith(jwt(forged)))).toBe("jose.signature-mismatch");
  });

  it("is taken encrypted where that is registered", async () => {
    await begin({
      clientKeys,
      clientAuthentication: "client_secret_basic",
      userinfoEncryptedResponseAlg: "ECDH-ES+A128KW",
    });
    expect(codeOf(await finishWith(jwt(await encrypt(await signed(), provider))))).toBe("granted");
    expect(codeOf(await finishWith(jwt(await signed())))).toBe("jose.not-encrypted");
  });

  it("is not taken signed where nothing is registered", async () => {
    await begin({});
    expect(codeOf(await finishWith(jwt(await signed())))).toBe("identity.userinfo-refused");
  });

  it("leaves out what other issuers are said to vouch for, and says so in the trace", async () => {
    await begin({});
    const outcome = await finishWith(
      Response.json({
        sub: "qs-10231",
        _claim_names: { berth: "src1" },
        _claim_sources: { src1: { JWT: "x.y.z" } },
      }),
    );
    expect(JSON.stringify(outcome)).not.toContain("_claim");
    expect(world.events).toContainEqual(
      expect.objectContaining({ note: "claims of another issuer left out" }),
    );
  });
});

describe("what the request asked for", () => {
  it.each<[string, Partial<SignInRequest>, JsonObject, string]>([
    ["maxAge, in time", { maxAge: 300 }, { auth_time: noon - 360 }, "granted"],
    ["maxAge, too long ago", { maxAge: 300 }, { auth_time: noon - 361 }, "identity.authentication-too-old"],
    ["maxAge, and no auth_time", { maxAge: 300 }, {}, "identity.authentication-too-old"],
    ["maxAge, and an auth_time in words", { maxAge: 300 }, { auth_time: "now" }, "identity.claim-missing"],
    [
      "maxAge, and an auth_time of the future",
      { maxAge: 300 },
      { auth_time: noon + 61 },
      "identity.authentication-too-old",
    ],
    ["a class that came", { acrValues: "two one" }, { acr: "one" }, "granted"],
    [
      "a class that did not come",
      { acrValues: "two" },
      { acr: "one" },
      "identity.authentication-class-mismatch",
    ],
    ["a class, and none came", { acrValues: "two" }, {}, "identity.authentication-class-mismatch"],
  ])("is compared: %s", async (_, request, changes, result) => {
    await begin({}, request);
    await answerTokens(changes);
    expect(codeOf(await finish({ code: "c0de" }))).toBe(result);
  });

  it("a difference of the clocks is named with its size and direction", async () => {
    await begin({});
    await answerTokens({ iat: noon + 300, exp: noon + 600 });
    const behind = await finish({ code: "c0de" });
    expect(behind).toMatchObject({
      problem: { here: expect.stringContaining("is 300 seconds behind the provider's") as string },
    });
    await answerTokens({ iat: noon - 900, exp: noon - 600 });
    const ahead = await finish({ code: "c0de" });
    expect(ahead).toMatchObject({
      problem: { here: expect.stringContaining("is 900 seconds ahead of the provider's") as string },
    });
  });
});
