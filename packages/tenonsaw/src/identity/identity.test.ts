import { createHash } from "node:crypto";
import { beforeAll, describe, expect, it } from "vitest";
import {
  clientId,
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  openFakeProvider,
  problemOf,
} from "../../../../tests/support/fake-world.js";
import { beginSignIn, type Attempt } from "../attempt/index.js";
import { createTools, prepareKey, signJws } from "../jose/index.js";
import { createWebEngine } from "../platform/web-engine.js";
import { problemText } from "../problem/index.js";
import { checkIssuer, type Provider } from "../provider/index.js";
import { finishSignIn, mapProfile, mapSubject, validateIdToken } from "./index.js";

const key = createTestKey("ES256");
const accessToken = "access-token-of-the-test";
const atHash = createHash("sha256").update(accessToken).digest().subarray(0, 16).toString("base64url");
const good = {
  iss: issuer,
  sub: "qs-10231",
  aud: clientId,
  exp: noon + 300,
  iat: noon,
  nonce: "n0nce",
  at_hash: atHash,
};
const world = createFakeWorld();
let provider: Provider;
beforeAll(async () => {
  provider = await openFakeProvider(world, [key], { trustedAudiences: ["tidebook"] });
});
const validate = async (claims: object, header?: { kid: string; typ?: string }) =>
  validateIdToken(provider, await key.sign(claims as never, header), { nonce: "n0nce", accessToken });

describe("validateIdToken", () => {
  it("returns the claims of a token in which everything holds, and traces each check", async () => {
    world.events.length = 0;
    expect(await validate(good)).toEqual(good);
    const checks = world.events.flatMap((event) =>
      event.kind === "check" ? [[event.check, event.verdict]] : [],
    );
    expect(checks).toEqual(
      [
        "jose.algorithm-refused",
        "jose.critical-unknown",
        "jose.signature-mismatch",
        "identity.token-kind-mismatch",
        "identity.issuer-mismatch",
        "identity.audience-mismatch",
        "identity.audience-untrusted",
        "identity.authorized-party-missing",
        "identity.authorized-party-mismatch",
        "identity.expired",
        "identity.not-yet-valid",
        "identity.nonce-mismatch",
        "identity.access-token-hash-mismatch",
      ].map((check) => [check, "passed"]),
    );
  });

  it.each<[string, object, { kid: string; typ: string }?]>([
    ["an audience in a list", { aud: [clientId] }],
    ["a second audience that the settings trust, with azp", { aud: [clientId, "tidebook"], azp: clientId }],
    ["a type in its long form", {}, { kid: "key-1", typ: "application/jwt" }],
    ["azp beside one audience", { azp: clientId }],
    ["no at_hash", { at_hash: undefined }],
    ["expiry within the tolerance", { exp: noon - 59 }],
    ["issue within the tolerance", { iat: noon + 60 }],
    ["claims it does not know", { _claim_names: {}, roles: ["coach"] }],
  ])("takes %s", async (_, change, header) => {
    expect(await validate({ ...good, ...change }, header)).toMatchObject({ sub: "qs-10231" });
  });

  it("takes a MAC with the client secret where that is registered, and nowhere else", async () => {
    const clientSecret = "a secret that is long enough for HS256";
    const secretKey = { kty: "oct", k: Buffer.from(clientSecret).toString("base64url") };
    const tools = createTools();
    const signing = await prepareKey(tools, secretKey, "HS256", "sign");
    const token = await signJws(tools, signing, good);
    const validateWith = async (settings: object) => {
      const registered = await openFakeProvider(createFakeWorld(), [key], { clientSecret, ...settings });
      // The fake metadata lists neither; by hand it does.
      return validateIdToken(registered, token, { nonce: "n0nce", accessToken });
    };
    const metadata = { idTokenSigningAlgValuesSupported: ["ES256", "HS256"] };
    const registered = { idTokenSignedResponseAlg: "HS256", metadata } as const;
    expect(await validateWith(registered)).toEqual(good);
    expect((await problemOf(() => validateWith({ metadata }))).code).toBe("jose.algorithm-refused");
    const other = { ...registered, clientSecret: "another secret that is long enough" };
    expect((await problemOf(() => validateWith(other))).code).toBe("jose.signature-mismatch");
    // And where it is registered, a signature with the provider's own key is not what was agreed.
    const signed = await key.sign(good);
    const provider = await openFakeProvider(createFakeWorld(), [key], { clientSecret, ...registered });
    const refused = await problemOf(() => validateIdToken(provider, signed, { nonce: "n0nce", accessToken }));
    expect(refused.code).toBe("jose.algorithm-refused");
  });

  it("takes the same MAC where there is Web Crypto only", async () => {
    const clientSecret = "a secret that is long enough for HS256";
    const crypto = createWebEngine(globalThis.crypto.subtle);
    const world = createFakeWorld({ crypto });
    const registered = await openFakeProvider(world, [], {
      clientSecret,
      idTokenSignedResponseAlg: "HS256",
      metadata: { idTokenSigningAlgValuesSupported: ["HS256"] },
    });
    const jwk = { kty: "oct", k: Buffer.from(clientSecret).toString("base64url") };
    const signing = await prepareKey(createTools(), jwk, "HS256", "sign");
    const token = await signJws(createTools(), signing, good);
    expect(await validateIdToken(registered, token, { nonce: "n0nce", accessToken })).toEqual(good);
    const other = await signJws(createTools(), signing, { ...good, sub: "qs-1" });
    const mixed = token.slice(0, token.lastIndexOf(".")) + other.slice(other.lastIndexOf("."));
    const work = () => validateIdToken(registered, mixed, { nonce: "n0nce", accessToken });
    expect((await problemOf(work)).code).toBe("jose.signature-mismatch");
  });

  it("does not take a MAC with a key that the provider publishes", async () => {
    const published = createTestKey("HS256");
    const world = createFakeWorld();
    const metadata = { idTokenSigningAlgValuesSupported: ["ES256", "HS256"] };
    const provider = await openFakeProvider(world, [key, published], { metadata });
    const token = await published.sign(good);
    const refused = await problemOf(() => validateIdToken(provider, token, { nonce: "n0nce", accessToken }));
    expect(refused.code).toBe("jose.algorithm-refused");
  });

  // Each row differs from a good token in one thing, so only the check it names can refuse it.
  it.each<[string, object, string]>([
    ["another issuer", { iss: "https://evil.example" }, "identity.issuer-mismatch"],
    ["the issuer with a slash", { iss: `${issuer}/` }, "identity.issuer-mismatch"],
    ["another audience", { aud: "other" }, "identity.audience-mismatch"],
    ["other audiences", { aud: ["other", "another"], azp: clientId }, "identity.audience-mismatch"],
    ["several audiences and no azp", { aud: [clientId, "tidebook"] }, "identity.authorized-party-missing"],
    [
      "an audience that nobody trusts",
      { aud: [clientId, "other"], azp: clientId },
      "identity.audience-untrusted",
    ],
    ["another azp", { azp: "other" }, "identity.authorized-party-mismatch"],
    ["an azp that is no text", { azp: [clientId] }, "identity.claim-missing"],
    ["an nbf that is no number", { nbf: "0" }, "identity.claim-missing"],
    ["an auth_time that is an object", { auth_time: { valueOf: 0 } }, "identity.claim-missing"],
    ["an auth_time after the year 9999", { auth_time: 1e300 }, "identity.claim-missing"],
    ["an auth_time before 1970", { auth_time: -1e300 }, "identity.claim-missing"],
    ["an end after the year 9999", { exp: 253_402_300_800 }, "identity.claim-missing"],
    ["an acr that is a list", { acr: ["two"] }, "identity.claim-missing"],
    ["a sid that is a number", { sid: 7 }, "identity.claim-missing"],
    ["an amr that is no list", { amr: "pwd" }, "identity.claim-missing"],
    ["an amr with a number in it", { amr: ["pwd", 1] }, "identity.claim-missing"],
    ["expiry beyond the tolerance", { exp: noon - 60 }, "identity.expired"],
    ["issue in the future", { iat: noon + 61 }, "identity.not-yet-valid"],
    ["nbf in the future", { nbf: noon + 61 }, "identity.not-yet-valid"],
    ["no nonce", { nonce: undefined }, "identity.nonce-missing"],
    ["a nonce that is no text", { nonce: 7 }, "identity.claim-missing"],
    ["another nonce", { nonce: "other" }, "identity.nonce-mismatch"],
    ["another at_hash", { at_hash: "AAAAAAAAAAAAAAAAAAAAAA" }, "identity.access-token-hash-mismatch"],
    ["an at_hash that is no text", { at_hash: null }, "identity.claim-missing"],
    ["no iss", { iss: undefined }, "identity.claim-missing"],
    ["no sub", { sub: undefined }, "identity.claim-missing"],
    ["an empty sub", { sub: "" }, "identity.claim-missing"],
    ["a sub of 256 characters", { sub: "x".repeat(256) }, "identity.claim-missing"],
    ["no aud", { aud: [] }, "identity.claim-missing"],
    ["exp as text", { exp: "1900000000" }, "identity.claim-missing"],
    ["no iat", { iat: undefined }, "identity.claim-missing"],
  ])("refuses %s", async (_, change, code) => {
    const problem = await problemOf(() => validate({ ...good, ...change }));
    expect(problem.code).toBe(code);
    expect(JSON.stringify(problem)).not.toContain("n0nce");
  });

  it.each<[string, object, string | undefined, RegExp]>([
    ["milliseconds", { exp: (noon + 300) * 1000 }, "kind", /exp: is \d{13}: .* looks like milliseconds/],
    ["a time in words", { exp: "soon" }, "kind", /exp: is a text of 4 characters, and has to be a number/],
    ["a subject that is a number", { sub: 1 }, "kind", /sub: is a number, and must not be/],
    ["one that is not there", { exp: undefined }, undefined, /exp: is missing/],
    ["a token that was over when it was made", { exp: noon - 300 }, "lifetime", /^(?![^]*your clock)/],
    [
      "one that was made long ago",
      { iat: noon - 900, exp: noon - 300 },
      undefined,
      /clock is 900 seconds ahead/,
    ],
    ["one that counts from later on", { nbf: noon + 900 }, "later", /^(?![^]*your clock)/],
    ["one from the future", { iat: noon + 900 }, undefined, /clock is 900 seconds behind/],
  ])("says what about its claims or times is amiss: %s", async (_, change, because, says) => {
    const problem = await problemOf(() => validate({ ...good, ...change }));
    expect([problem.because, problemText(problem)]).toEqual([because, expect.stringMatching(says)]);
  });

  it.each([
    [`${issuer}/`, "slash"],
    [issuer.replace("quayside", "QuaySide"), "letters"],
    [`${issuer}/north`, "path"],
    ["https://evil.example", undefined],
  ])("says in what another issuer differs: %s", async (iss, because) => {
    const { code, ...problem } = await problemOf(() => validate({ ...good, iss }));
    expect([code, problem.because]).toEqual(["identity.issuer-mismatch", because]);
    const provider = await openFakeProvider(createFakeWorld(), [key]);
    const mismatch = "response.issuer-mismatch";
    expect((await problemOf(async () => checkIssuer(provider.tools, mismatch, provider, iss))).because).toBe(
      because,
    );
  });

  it("refuses a key that is not published, another key under its name, and an algorithm not agreed on", async () => {
    expect((await problemOf(() => validate(good, { kid: "key-2" }))).code).toBe("jose.key-unknown");
    const mallory = createTestKey("ES256");
    const forged = await mallory.sign(good);
    const check = (token: string) =>
      problemOf(() => validateIdToken(provider, token, { nonce: "n0nce", accessToken }));
    expect((await check(forged)).code).toBe("jose.signature-mismatch");
    expect((await check(await createTestKey("EdDSA").sign(good))).code).toBe("jose.algorithm-refused");
  });

  it("hashes the access token with SHA-512 for EdDSA", async () => {
    const edKey = createTestKey("EdDSA");
    const edWorld = createFakeWorld();
    const opened = await openFakeProvider(edWorld, [edKey]);
    const at_hash = createHash("sha512").update(accessToken).digest().subarray(0, 32).toString("base64url");
    const token = await edKey.sign({ ...good, at_hash });
    const edProvider = { ...opened, signatureAlgorithms: ["EdDSA" as const] };
    expect(await validateIdToken(edProvider, token, { nonce: "n0nce", accessToken })).toMatchObject({
      at_hash,
    });
  });
});

describe("finishSignIn", () => {
  const userinfo = `${issuer}/userinfo`;
  let attempt: Attempt;
  async function finish(parts: { idToken?: string | undefined; userinfo?: Response } = {}) {
    ({ attempt } = await beginSignIn(provider, { redirectUri: "https://ferrywell.example/back" }));
    const id_token = "idToken" in parts ? parts.idToken : await key.sign({ ...good, nonce: attempt.nonce });
    world.answers.set(
      `${issuer}/token`,
      Response.json({ access_token: accessToken, token_type: "Bearer", id_token }),
    );
    world.answers.set(userinfo, parts.userinfo ?? Response.json({ sub: "qs-10231", name: "Maren Holt" }));
    const query = new URLSearchParams({ code: "c0de", state: attempt.state, iss: issuer });
    return finishSignIn(provider, attempt, `https://ferrywell.example/back?${query}`);
  }

  it("says why it failed, whatever becomes of the tokens that nobody is going to use", async () => {
    const told: string[] = [];
    const { tools } = provider;
    const report = (error: unknown) => told.push(String(error));
    ({ attempt } = await beginSignIn(provider, { redirectUri: "https://ferrywell.example/back" }));
    const query = new URLSearchParams({ code: "c0de", state: attempt.state, iss: issuer });
    world.answers.set(`${issuer}/token`, Response.json({ access_token: accessToken, token_type: "Bearer" }));
    const onUnused = () => {
      throw new RangeError("no such queue");
    };
    const outcome = await finishSignIn(
      { ...provider, tools: { ...tools, report } },
      attempt,
      query,
      onUnused,
    );
    expect(outcome).toMatchObject({ kind: "failed", problem: { station: "identity" } });
    expect(told).toEqual(["RangeError: no such queue"]);
  });

  it("grants identity and tokens; the ID token's claims stand over userinfo's", async () => {
    const outcome = await finish({
      userinfo: Response.json({ sub: "qs-10231", name: "Maren Holt", iss: "https://evil.example" }),
    });
    expect(outcome).toMatchObject({
      kind: "granted",
      identity: { issuer, subject: "qs-10231", profile: { name: "Maren Holt" }, claims: { iss: issuer } },
      grant: { accessToken },
    });
  });

  it.each<[string, Parameters<typeof finish>[0], string, string?]>([
    ["no ID token", { idToken: undefined }, "identity.id-token-missing"],
    [
      "userinfo about somebody else",
      { userinfo: Response.json({ sub: "qs-10447" }) },
      "identity.userinfo-subject-mismatch",
    ],
    [
      "userinfo about nobody",
      { userinfo: Response.json({ name: "Maren" }) },
      "identity.userinfo-subject-mismatch",
    ],
    [
      "userinfo that refuses the token",
      { userinfo: new Response("", { status: 401, headers: { "www-authenticate": "Bearer" } }) },
      "identity.userinfo-refused",
      "token-refused",
    ],
    [
      "userinfo that refuses, with claims",
      { userinfo: Response.json({ sub: "qs-10231" }, { status: 403 }) },
      "identity.userinfo-refused",
      "token-refused",
    ],
    [
      "userinfo that is nowhere",
      { userinfo: new Response("", { status: 404 }) },
      "identity.userinfo-refused",
      "not-there",
    ],
    ["userinfo that is no JSON", { userinfo: new Response("<p>") }, "identity.userinfo-refused"],
    [
      "userinfo that is a page",
      { userinfo: new Response("<p>", { headers: { "content-type": "text/html; charset=utf-8" } }) },
      "identity.userinfo-refused",
      "page",
    ],
    [
      "userinfo that is signed, which nobody has registered",
      { userinfo: new Response("e.y.J", { headers: { "content-type": "application/jwt" } }) },
      "identity.userinfo-refused",
      "form",
    ],
  ])("fails on %s", async (_, parts, code, because) => {
    const outcome = await finish(parts);
    expect(outcome).toMatchObject({ kind: "failed", problem: { code } });
    expect(outcome.kind === "failed" && outcome.problem.because).toBe(because);
  });

  it("ends failed where there is no attempt any more, or no address", async () => {
    const before = world.requests.length;
    const back = `https://ferrywell.example/back?code=c&state=${attempt.state}`;
    for (const none of [undefined, null, {}, JSON.stringify(attempt)] as never[])
      expect(await finishSignIn(provider, none, back)).toMatchObject({
        problem: { code: "response.state-altered", because: "no-attempt" },
      });
    for (const none of [undefined, new Request(back), "//", 7] as never[])
      expect(await finishSignIn(provider, attempt, none)).toMatchObject({
        problem: { code: "response.empty", because: "no-address" },
      });
    expect(world.requests).toHaveLength(before);
  });

  it("ends declined, and asks for no token, when the person said no", async () => {
    const before = world.requests.length;
    const query = `error=access_denied&state=${attempt.state}&iss=${issuer}`;
    expect(await finishSignIn(provider, attempt, new URLSearchParams(query))).toMatchObject({
      kind: "declined",
    });
    expect(world.requests).toHaveLength(before);
  });
});

describe("profile mapping", () => {
  it("leaves out what is absent, empty or of another type, and pictures a page must not load", () => {
    const odd = {
      name: " ",
      email: 7,
      email_verified: "true",
      picture: "javascript:alert(1)",
      roles: "coach",
    };
    const { platform, events } = createFakeWorld();
    const tools = createTools({ platform, trace: (event) => void events.push(event) });
    expect(mapProfile(tools, {}, odd)).toEqual({});
    expect(events.map((event) => event.kind === "note" && [event.note, event.detail["why"]])).toEqual([
      ["name is not in the profile", "is blank"],
      ["email is not in the profile", "is a number, and no text"],
      ["emailVerified is not in the profile", "is a text of 4 characters, and neither true nor false"],
      ["picture is not in the profile", "is no https address"],
      ["roles is not in the profile", "is a text of 5 characters, and no list"],
    ]);
    const picture = "https://id.quayside.example/zoe.png";
    const full = { name: "Zoë", given_name: "Zoë", email_verified: false, roles: ["coach", 7], picture };
    expect(mapProfile(tools, {}, { picture: `${picture}?${"x".repeat(2048)}` })).toEqual({});
    expect(mapProfile(tools, {}, full)).toEqual({
      name: "Zoë",
      given: "Zoë",
      picture,
      emailVerified: false,
      roles: ["coach"],
    });
  });

  it("finds fields by pointer, the first that leads to something", () => {
    const user = { "full/name": "Maren", mails: [{ to: "m@ferrywell.example" }] };
    const claims = { user, name: "other", "~": { "": "x" } };
    const mapping = {
      name: ["/nick", "/user/full~1name", "/name"],
      email: "/user/mails/0/to",
      locale: "/~0/",
    };
    expect(mapProfile(createTools(), mapping, claims)).toEqual({
      name: "Maren",
      email: "m@ferrywell.example",
      locale: "x",
    });
    expect(
      mapProfile(createTools(), { name: "/constructor/name", locale: "/user/__proto__/x" }, claims),
    ).toEqual({});
  });

  it("can be a function, whose fields are held to the same rules", async () => {
    const mapping = ({ first, last, id }: Readonly<Record<string, unknown>>) => ({
      subject: typeof id === "number" ? id.toFixed() : "",
      name: `${String(first)} ${String(last)}`,
      picture: "javascript:alert(1)",
    });
    expect(mapProfile(createTools(), mapping, { first: "Maren", last: "Holt" })).toEqual({
      name: "Maren Holt",
    });
    expect(mapSubject(mapping, { id: 7 })).toBe("7");
    const { received } = await problemOf(() => mapSubject(mapping, { first: "Maren" }));
    for (const [answer, shape] of [
      [Promise.resolve({ subject: "7" }), "a promise"],
      [undefined, "a value of type undefined"],
      [null, "a value of type object"],
      ["7", "a value of type string"],
    ] as const)
      for (const work of [mapSubject, mapProfile.bind(undefined, createTools())]) {
        const odd = await problemOf(() => work(() => answer as never, {}));
        expect([odd.code, odd.received]).toEqual(["server.hook-unusable", `\`profile\` answered ${shape}`]);
      }
    expect(received).toContain("cannot be used, at the profile function");
  });

  it("needs a subject, and says where it looked and what was there", async () => {
    expect(mapSubject({ subject: "/id" }, { id: 10231 })).toBe("10231");
    const problem = await problemOf(() => mapSubject({ subject: ["/id", "/user/id"] }, { uid: 1, user: {} }));
    expect(problem.code).toBe("identity.profile-field-missing");
    expect(problem.received).toBe('nothing at /id or /user/id; there were "uid", "user"');
    for (const id of [1.5, true, {}, "", " "]) {
      const { code } = await problemOf(() => mapSubject({ subject: "/id" }, { id }));
      expect(code).toBe("identity.profile-field-missing");
    }
  });
});
