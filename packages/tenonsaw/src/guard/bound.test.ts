import { createHash, createHmac, randomUUID, sign as signBytes } from "node:crypto";
import { describe, expect, it } from "vitest";
import { openGuard, type Refusal, type SignedCredentials } from "tenonsaw/guard";
import { createTools, signJws, prepareKey, thumbprint, type JsonObject } from "tenonsaw/jose";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import {
  base64urlJson,
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  problemOf,
  type FakeAnswer,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import { createReplayMemory } from "./replays.js";
import { newKeyPair } from "../../../../scripts/key-pair.mjs";

const audience = "https://tidebook.example";
const key = createTestKey();
const owner = createTestKey("ES256", "owner");
const tools = createTools();
const jkt = await thumbprint(tools, owner.publicJwk);
const claims = {
  iss: issuer,
  aud: audience,
  sub: "rower-7",
  client_id: "ferrywell",
  iat: noon,
  exp: noon + 300,
  jti: "t",
  scope: "tides.read",
};
const sign = (changes: JsonObject = {}) =>
  key.sign({ ...claims, ...changes }, { kid: "key-1", typ: "at+jwt" });
const sha256 = (text: string) => createHash("sha256").update(text).digest("base64url");

async function open(settings: object = {}, world: FakeWorld = createFakeWorld()) {
  const guard = await openGuard({
    issuer,
    audience,
    keys: [key.publicJwk],
    platform: world.platform,
    onProblem: () => undefined,
    ...settings,
  });
  const refused = async (request: Request) => {
    const error: unknown = await guard.admit(request, "any-caller").then(
      () => "let in",
      (thrown: unknown) => thrown,
    );
    expect(error).toHaveProperty("response");
    return error as Refusal;
  };
  return { guard, refused, world };
}

/** A proof for a call of /tides/today. */
async function prove(
  token: string,
  changes: JsonObject = {},
  header: object = {},
  by = owner,
): Promise<string> {
  const { kty, crv, x, y } = by.publicJwk as Record<string, string>;
  const payload = {
    jti: randomUUID(),
    htm: "GET",
    htu: `${audience}/tides/today`,
    iat: noon,
    ath: sha256(token),
    ...changes,
  };
  const signing = await prepareKey(tools, by.privateJwk, "ES256", "sign");
  return signJws(tools, signing, payload, { typ: "dpop+jwt", jwk: { kty, crv, x, y }, ...header });
}
const call = (token: string, proof: string | undefined, scheme = "DPoP", url = `${audience}/tides/today`) =>
  new Request(url, {
    headers: { authorization: `${scheme} ${token}`, ...(proof !== undefined && { dpop: proof }) },
  });

describe("a token that is bound to a key", () => {
  it("is taken with a proof for this very call, and each proof once", async () => {
    const { guard, refused } = await open();
    const token = await sign({ cnf: { jkt } });
    // IDs of any letters and length: they differ from one another by all of themselves.
    const long = "x".repeat(254);
    for (const jti of [randomUUID(), "7", "a\0b", "a/b", "Ł", `${long}1`, `${long}2`, "x".repeat(43)]) {
      const proof = await prove(token, { jti });
      expect((await guard.admit(call(token, proof), "any-caller")).boundTo).toBe("key");
      expect((await refused(call(token, proof))).problem.code).toBe("guard.proof-replayed");
    }
    // Normalised as RFC 3986 says; query and fragment are not part of it.
    for (const htu of [
      "HTTPS://TIDEBOOK.example:443/tides/today",
      `${audience}/tides/%74oday`,
      `${audience}/x/../tides/today`,
    ])
      await guard.admit(
        call(token, await prove(token, { htu }), "dpop", `${audience}/tides/today?day=2#high`),
        "any-caller",
      );
  });

  it.each<[string, (token: string) => Promise<Request>, string, string | undefined, string]>([
    [
      "as a bearer token",
      async (t) => call(t, await prove(t), "Bearer"),
      "guard.proof-missing",
      "bearer",
      "invalid_token",
    ],
    ["without a proof", async (t) => call(t, undefined), "guard.proof-missing", undefined, "invalid_token"],
    [
      "with two proofs",
      async (t) => call(t, `${await prove(t)}, ${await prove(t)}`),
      "guard.proof-refused",
      "several",
      "invalid_dpop_proof",
    ],
    [
      "with something else as a proof",
      async (t) => call(t, "proof"),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "with a proof of 9,000 characters",
      async (t) => call(t, "a".repeat(9000)),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "without jti",
      async (t) => call(t, await prove(t, { jti: undefined })),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "with a jti of 300 characters",
      async (t) => call(t, await prove(t, { jti: "j".repeat(300) })),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "without htm",
      async (t) => call(t, await prove(t, { htm: undefined })),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "without htu",
      async (t) => call(t, await prove(t, { htu: undefined })),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "without ath",
      async (t) => call(t, await prove(t, { ath: undefined })),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "without iat",
      async (t) => call(t, await prove(t, { iat: undefined })),
      "guard.proof-refused",
      "form",
      "invalid_dpop_proof",
    ],
    [
      "of another type",
      async (t) => call(t, await prove(t, {}, { typ: "JWT" })),
      "guard.proof-refused",
      "kind",
      "invalid_dpop_proof",
    ],
    [
      "without a type",
      async (t) => call(t, await prove(t, {}, { typ: undefined })),
      "guard.proof-refused",
      "kind",
      "invalid_dpop_proof",
    ],
    [
      "without a key",
      async (t) => call(t, await prove(t, {}, { jwk: undefined })),
      "guard.proof-refused",
      "key",
      "invalid_dpop_proof",
    ],
    [
      "with its private key",
      async (t) => call(t, await prove(t, {}, { jwk: owner.privateJwk })),
      "guard.proof-refused",
      "key",
      "invalid_dpop_proof",
    ],
    [
      "with a key of another kind",
      async (t) => call(t, await prove(t, {}, { jwk: { kty: "RSA", n: "AQAB", e: "AQAB" } })),
      "guard.proof-refused",
      "key",
      "invalid_dpop_proof",
    ],
    [
      "by somebody else's key",
      async (t) => call(t, await prove(t, {}, {}, createTestKey("ES256", "thief"))),
      "guard.binding-mismatch",
      undefined,
      "invalid_token",
    ],
    [
      "with the owner's key and another signature",
      async (t) => call(t, (await prove(t)).replace(/[^.]*$/, (await prove("x")).split(".")[2]!)),
      "guard.proof-refused",
      "signature",
      "invalid_dpop_proof",
    ],
    [
      "for another method",
      async (t) => call(t, await prove(t, { htm: "POST" })),
      "guard.proof-refused",
      "method",
      "invalid_dpop_proof",
    ],
    [
      "for the method in small letters",
      async (t) => call(t, await prove(t, { htm: "get" })),
      "guard.proof-refused",
      "method",
      "invalid_dpop_proof",
    ],
    [
      "for another path",
      async (t) => call(t, await prove(t, { htu: `${audience}/slots` })),
      "guard.proof-refused",
      "address",
      "invalid_dpop_proof",
    ],
    [
      "for another host",
      async (t) => call(t, await prove(t, { htu: "https://evil.example/tides/today" })),
      "guard.proof-refused",
      "address",
      "invalid_dpop_proof",
    ],
    [
      "for an address that is none",
      async (t) => call(t, await prove(t, { htu: "/tides/today" })),
      "guard.proof-refused",
      "address",
      "invalid_dpop_proof",
    ],
    [
      "from long ago",
      async (t) => call(t, await prove(t, { iat: noon - 61 })),
      "guard.proof-refused",
      "time",
      "invalid_dpop_proof",
    ],
    [
      "from the future",
      async (t) => call(t, await prove(t, { iat: noon + 61 })),
      "guard.proof-refused",
      "time",
      "invalid_dpop_proof",
    ],
    [
      "for another token",
      async (t) => call(t, await prove("another")),
      "guard.proof-refused",
      "token",
      "invalid_dpop_proof",
    ],
  ])("is refused %s", async (_, make, code, because, error) => {
    const { refused } = await open();
    const refusal = await refused(await make(await sign({ cnf: { jkt } })));
    expect(refusal.problem.code).toBe(code);
    expect(refusal.problem.because).toBe(because);
    expect([refusal.status, refusal.error]).toEqual([401, error]);
    const challenge = refusal.response().headers.get("www-authenticate") ?? "";
    const scheme = because === "bearer" ? "Bearer" : "DPoP";
    expect(challenge).toMatch(new RegExp(`${scheme} [^,]*(, (?!DPoP )[^,]*)*error="${error}"`));
  });

  it("takes the host from the settings, not from the caller", async () => {
    const token = await sign({ cnf: { jkt } });
    const htu = "https://evil.example/tides/today";
    const { refused, guard } = await open();
    const request = call(token, await prove(token, { htu }), "DPoP", htu);
    expect((await refused(request)).problem).toMatchObject({ because: "address" });
    await guard.admit(
      call(token, await prove(token), "DPoP", "http://10.0.0.7:8080/tides/today"),
      "any-caller",
    );
  });

  it("is what a proof is for: one that is bound to nothing is refused with a proof, and where proofs are required", async () => {
    const { refused } = await open();
    const token = await sign();
    expect((await refused(call(token, await prove(token)))).problem.because).toBe("not-bound");
    const strict = await open({ proofRequired: true });
    const refusal = await strict.refused(call(token, undefined, "Bearer"));
    expect(refusal.problem.because).toBe("needed-here");
    expect(refusal.response().headers.get("www-authenticate")).not.toContain("Bearer");
  });

  it("has to be proved with the API's nonce where it wants one, which every process of it knows", async () => {
    const proofNonces = "a secret that all of them share.";
    expect(proofNonces).toHaveLength(32);
    const [one, other] = [await open({ proofNonces }), await open({ proofNonces })];
    const token = await sign({ cnf: { jkt } });
    const refusal = await one.refused(call(token, await prove(token)));
    expect(refusal.problem.code).toBe("guard.proof-nonce-needed");
    expect([refusal.status, refusal.error]).toEqual([401, "use_dpop_nonce"]);
    const nonce = refusal.response().headers.get("dpop-nonce") ?? "";
    await other.guard.admit(call(token, await prove(token, { nonce })), "any-caller");
    expect((await other.refused(call(token, await prove(token, { nonce: "0".repeat(32) })))).error).toBe(
      "use_dpop_nonce",
    );
    expect((await other.refused(call(token, await prove(token, { nonce: { is: nonce } })))).error).toBe(
      "use_dpop_nonce",
    );
    one.world.now = noon + 601;
    const later = await sign({ cnf: { jkt }, exp: noon + 900 });
    expect((await one.refused(call(later, await prove(later, { nonce, iat: noon + 601 })))).error).toBe(
      "use_dpop_nonce",
    );
  });

  it("cannot be used twice by one proof at two processes that share a store", async () => {
    const store = await openSqliteStore(":memory:");
    const [one, other] = [await open({ store }), await open({ store })];
    const token = await sign({ cnf: { jkt } });
    const proof = await prove(token);
    const outcomes = await Promise.allSettled(
      [one, other, one, other].map(({ guard }) => guard.admit(call(token, proof), "any-caller")),
    );
    expect(outcomes.filter(({ status }) => status === "fulfilled")).toHaveLength(1);
    const silent = await open({ store: { useMark: () => new Promise<boolean>(() => undefined) } });
    const late = await silent.refused(call(token, await prove(token)));
    expect([late.problem.code, late.status]).toEqual(["store.unavailable", 503]);
    await store.close();
    expect((await one.refused(call(token, await prove(token)))).status).toBe(503);
  });
});

describe("the memory of used proofs", () => {
  /** 200,000 marks, of ten owners and more. */
  const fill = async (until: number, now: number) => {
    const marks = createReplayMemory();
    for (let count = 0; count < 200_000; count += 1)
      await marks.useMark(`old-${count}`, until, now, `owner-${count % 11}`);
    const use = async (id: string, at: number, usedAt: number, by = "somebody") =>
      marks.useMark(id, at, usedAt, by);
    return use;
  };

  it("is bounded: it forgets what cannot be used again, and takes nothing on when it is full of what can", async () => {
    const use = await fill(noon + 1, noon);
    const problem = await problemOf(() => use("one more", noon + 100, noon));
    expect([problem.code, problem.status, problem.because]).toEqual(["guard.replays-full", 503, undefined]);
    expect(await use("one more", noon + 100, noon + 1)).toBe(true);
    expect(await use("one more", noon + 100, noon + 99)).toBe(false);
    expect(await use("one more", noon + 200, noon + 100)).toBe(true);
  });

  it("has room for others where one caller has sent all that one may", async () => {
    const marks = createReplayMemory();
    const use = async (id: string, by: string) => marks.useMark(id, noon + 100, noon, by);
    for (let count = 0; count < 20_000; count += 1) await use(`one-${count}`, "one");
    expect((await problemOf(() => use("more", "one"))).because).toBe("one-caller");
    expect(await use("more", "another")).toBe(true);
  });

  it("is not gone through for each request while it is full, nor left alone when a clock is set back", async () => {
    const use = await fill(noon - 1, noon - 2);
    const own = Map.prototype[Symbol.iterator];
    let count = 0;
    Map.prototype[Symbol.iterator] = function (this: Map<unknown, unknown>) {
      if (this.size > 100_000) count += 1;
      return own.call(this);
    };
    const work = Array.from({ length: 20 }, () => problemOf(() => use("one more", noon, noon - 2)));
    const codes = (await Promise.all(work)).map(({ code }) => code);
    Map.prototype[Symbol.iterator] = own;
    expect([new Set(codes), count]).toEqual([new Set(["guard.replays-full"]), 0]);
    expect(await use("one more", noon, noon - 1)).toBe(true);
    expect(await use("before the clock was set", noon, noon + 3600)).toBe(true);
    expect(await use("after it was set back", noon + 100, noon)).toBe(true);
  });
});

describe("a token that is bound to a certificate", () => {
  it("is taken on a connection with that certificate, and on no other", async () => {
    const der = new TextEncoder().encode("a certificate as bytes");
    const digest = createHash("sha256").update(der).digest("base64url");
    const certificateOf = (header: (name: string) => string | undefined) => {
      const given = header("client-cert");
      return given === undefined ? undefined : new Uint8Array(Buffer.from(given, "base64"));
    };
    const { guard, refused } = await open({ certificateOf });
    const token = await sign({ cnf: { "x5t#S256": digest } });
    const request = (certificate?: Uint8Array) =>
      new Request(audience, {
        headers: {
          authorization: `Bearer ${token}`,
          ...(certificate && { "client-cert": Buffer.from(certificate).toString("base64") }),
        },
      });
    expect((await guard.admit(request(der), "any-caller")).boundTo).toBe("certificate");
    expect((await refused(request())).problem.code).toBe("guard.certificate-missing");
    expect((await refused(request(new Uint8Array([1])))).problem.code).toBe("guard.binding-mismatch");
    for (const [answer, code] of [
      [null, "guard.certificate-missing"],
      ["-----BEGIN CERTIFICATE-----", "server.hook-unusable"],
      [Promise.resolve(der), "server.hook-unusable"],
    ]) {
      const other = await open({ certificateOf: () => answer as never });
      expect((await other.refused(request(der))).problem.code).toBe(code);
    }
  });
});

describe("an opaque token", () => {
  const endpoint = `${issuer}/introspect`;
  const client = { clientId: "tidebook", clientSecret: "only-for-tests" };
  const active = {
    active: true,
    sub: "rower-7",
    client_id: "ferrywell",
    aud: audience,
    scope: "tides.read",
    exp: noon + 20,
  };
  const ofTenants = {
    issuer: `${issuer}/{club}`,
    tenants: { placeholder: "{club}", admitted: ["rowing"] },
    discovery: "none",
    introspection: { endpoint },
  };
  async function ask(answer: unknown, settings: object = {}) {
    const world = createFakeWorld();
    world.answers.set(
      `${issuer}/.well-known/openid-configuration`,
      Response.json({
        issuer,
        jwks_uri: `${issuer}/keys`,
        introspection_endpoint: endpoint,
        authorization_endpoint: `${issuer}/authorize`,
        token_endpoint: `${issuer}/token`,
      }),
    );
    world.answers.set(endpoint, () => (answer instanceof Response ? answer.clone() : Response.json(answer)));
    const opened = await open({ keys: undefined, client, introspection: true, ...settings }, world);
    const asked = () => world.requests.filter(({ url }) => url === endpoint);
    return { ...opened, world, asked };
  }
  const bearing = (token = "k7Gf2wQp") =>
    new Request(audience, { headers: { authorization: `Bearer ${token}` } });

  it("is asked about once for all who wait, by a client that proves itself, and the answer is kept no longer than it counts", async () => {
    const { guard, refused, asked, world } = await ask(active);
    const callers = await Promise.all(
      Array.from({ length: 20 }, () => guard.admit(bearing(), { scope: "tides.read" })),
    );
    expect(callers[0]).toMatchObject({ subject: "rower-7", kind: "person", expiresAt: noon + 20 });
    expect(asked()).toHaveLength(1);
    const { headers, body } = asked()[0]!.init;
    expect(headers).toMatchObject({ authorization: `Basic ${btoa("tidebook:only-for-tests")}` });
    expect(body).toBe("token=k7Gf2wQp&token_type_hint=access_token");
    world.now = noon + 9;
    await guard.admit(bearing(), "any-caller");
    expect(asked()).toHaveLength(1);
    world.now = noon + 19;
    await guard.admit(bearing(), "any-caller");
    expect(asked()).toHaveLength(2);
    world.now = noon + 20.5;
    expect((await refused(bearing())).problem.code).toBe("guard.expired");
    expect(asked()).toHaveLength(3);
  });

  it("is asked about where metadata at an address of its own says, for a tenant as well", async () => {
    const metadataUrl = "https://id.quayside.example/meta/clubs";
    const tenants = { placeholder: "{club}", admitted: ["rowing"] };
    const world = createFakeWorld();
    const ofAll = `${issuer}/{club}`;
    world.answers.set(endpoint, Response.json({ ...active, iss: `${issuer}/rowing` }));
    world.answers.set(
      metadataUrl,
      Response.json({
        issuer: ofAll,
        jwks_uri: `${issuer}/keys`,
        introspection_endpoint: endpoint,
        authorization_endpoint: `${issuer}/authorize`,
        token_endpoint: `${issuer}/token`,
      }),
    );
    const settings = { issuer: ofAll, metadataUrl, tenants, keys: undefined, client, introspection: true };
    const { guard } = await open(settings, world);
    expect((await guard.admit(bearing(), "any-caller")).issuer).toBe(`${issuer}/rowing`);
    expect([...new Set(world.requests.map(({ url }) => url))]).toEqual([metadataUrl, endpoint]);
  });

  it.each<[string, unknown, object, string, number]>([
    ["that is inactive", { active: false }, {}, "guard.token-inactive", 401],
    ["for another API", { ...active, aud: "https://ledger.example" }, {}, "guard.audience-mismatch", 401],
    ["for nobody in particular", { ...active, aud: undefined }, {}, "guard.audience-mismatch", 401],
    ["of another issuer", { ...active, iss: "https://elsewhere.example" }, {}, "guard.issuer-unknown", 401],
    ["that has expired", { ...active, exp: noon }, {}, "guard.expired", 401],
    ["that begins later", { ...active, nbf: noon + 100 }, {}, "guard.not-yet-valid", 401],
    ["whose exp is text", { ...active, exp: "soon" }, {}, "guard.claim-missing", 401],
    ["that is bound to a key", { ...active, cnf: { jkt } }, {}, "guard.proof-missing", 401],
    ["of no tenant", active, ofTenants, "guard.issuer-unknown", 401],
    [
      "of a tenant that is not admitted",
      { ...active, iss: `${issuer}/chess` },
      ofTenants,
      "guard.issuer-unknown",
      401,
    ],
    ["that is a refresh token", { ...active, token_type: "refresh_token" }, {}, "guard.kind-refused", 401],
    ["whose type is a number", { ...active, token_type: 7 }, {}, "guard.kind-refused", 401],
    ["that is for DPoP and has no key", { ...active, token_type: "DPoP" }, {}, "guard.kind-refused", 401],
    [
      "of which it says active in words",
      { ...active, active: "true" },
      {},
      "guard.introspection-unreadable",
      503,
    ],
    ["of which it says nothing", {}, {}, "guard.introspection-unreadable", 503],
    ["of which it says a page", new Response("<html>"), {}, "guard.introspection-unreadable", 503],
    [
      "where the client is refused",
      Response.json({ error: "invalid_client" }, { status: 401 }),
      {},
      "guard.introspection-refused",
      503,
    ],
    ["where the issuer fails", new Response("", { status: 500 }), {}, "guard.issuer-unusable", 503],
    [
      "where a signed answer is asked for",
      active,
      { introspection: { signed: true } },
      "guard.introspection-unreadable",
      503,
    ],
  ])("%s is refused", async (_, answer, settings, code, status) => {
    const { refused } = await ask(answer, settings);
    const refusal = await refused(bearing());
    expect(refusal.problem.code).toBe(code);
    expect(refusal.status).toBe(status);
  });

  it.each([' {"alg":"ES256"}', '{\n"alg":"ES256"}', '\t\r\n {"alg":"RSA-OAEP","enc":"A256GCM"}'])(
    "is none that has a JSON header, however that begins: nobody is asked about it: %j",
    async (header) => {
      const { refused, asked } = await ask(active);
      const payload = base64urlJson({ iss: issuer });
      for (const token of [
        `${base64urlJson(header)}.${payload}.AAAA`,
        `${base64urlJson(header)}.AA.AA.${payload}.AA`,
      ])
        expect((await refused(bearing(token))).problem.code).not.toBe("guard.token-inactive");
      expect(asked()).toEqual([]);
    },
  );

  it("is refused with what is amiss about the client, or about the address", async () => {
    const noClient = Response.json({ error: "invalid_client" }, { status: 401 });
    const client = { clientId: "tidebook", clientSecret: "s3cret " };
    const { refused } = await ask(noClient, { client });
    expect((await refused(bearing())).problem.because).toBe("white-space");
    const elsewhere = await ask(new Response("", { status: 404 }));
    expect((await elsewhere.refused(bearing())).problem.because).toBe("not-there");
  });

  it("is refused while the issuer is away, without asking for each, and one at which it fails is nobody else's trouble", async () => {
    const busy = await ask(new Response("", { status: 503, headers: { "retry-after": "7" } }));
    const refusal = await busy.refused(bearing());
    expect(refusal.response().headers.get("retry-after")).toBe("7");
    for (let count = 0; count < 20; count += 1) await busy.refused(bearing(`other-${count}`));
    expect(busy.asked()).toHaveLength(1);
    busy.world.now += 6;
    await busy.refused(bearing());
    expect(busy.asked()).toHaveLength(2);
  });

  it.each<[string, FakeAnswer]>([
    ["answers 500", () => new Response("", { status: 500 })],
    ["breaks off", new TypeError("fetch failed")],
    ["redirects", () => new Response("", { status: 302, headers: { location: "/elsewhere" } })],
    ["answers too much", () => new Response("a".repeat(3_000_000))],
  ])(
    "at which the issuer %s is nobody else's trouble; only at several tokens is it away",
    async (_, answer) => {
      const broken = await ask(active);
      broken.world.answers.set(endpoint, answer);
      for (let count = 0; count < 9; count += 1) await broken.refused(bearing("poison"));
      expect(broken.asked()).toHaveLength(1);
      broken.world.answers.set(endpoint, Response.json(active));
      await broken.guard.admit(bearing(), "any-caller");
      // Nor does it add up, where it answers for others in between.
      broken.world.answers.set(endpoint, answer);
      for (const each of ["one", "two"]) await broken.refused(bearing(each));
      expect(broken.asked()).toHaveLength(4);
      await broken.refused(bearing("three"));
      for (let count = 0; count < 20; count += 1) await broken.refused(bearing(`other-${count}`));
      expect(broken.asked()).toHaveLength(5);
      // When the pause is over one question tells whether it answers again.
      broken.world.now += 6;
      await Promise.all([1, 2, 3].map((each) => broken.refused(bearing(`later-${each}`))));
      expect(broken.asked()).toHaveLength(6);
      broken.world.now += 6;
      broken.world.answers.set(endpoint, Response.json(active));
      await broken.guard.admit(bearing("poison"), "any-caller");
      await broken.guard.admit(bearing("other-1"), "any-caller");
    },
  );

  it("can be asked about without metadata, and by a client that signs", async () => {
    const own = createTestKey("ES256", "own");
    const world = createFakeWorld();
    world.answers.set(endpoint, Response.json(active));
    const { guard } = await open(
      {
        keys: undefined,
        discovery: "none",
        introspection: { endpoint },
        client: { clientId: "tidebook", clientKeys: JSON.stringify(own.privateJwk) },
      },
      world,
    );
    await guard.admit(bearing(), "any-caller");
    const [{ url, init }] = world.requests as [(typeof world.requests)[0]];
    const form = new URLSearchParams(init.body as string);
    expect([url, form.get("client_id"), form.get("client_assertion")?.split(".")]).toEqual([
      endpoint,
      "tidebook",
      expect.objectContaining({ length: 3 }),
    ]);
  });

  it("is refused where too many are being asked about already", async () => {
    const never = await ask(active);
    never.world.answers.set(endpoint, () => new Promise<Response>(() => undefined));
    for (let count = 0; count < 100; count += 1)
      void never.guard.admit(bearing(`slow-${count}`), "any-caller").catch(() => undefined);
    await expect.poll(() => never.asked().length).toBe(100);
    const refusal = await never.refused(bearing("one-more"));
    expect(refusal.problem.code).toBe("guard.too-busy");
    expect(refusal.response().headers.get("retry-after")).toBe("1");
  });

  it("may be told of without audience or by a signed answer, where the settings say so", async () => {
    const { guard } = await ask(
      { ...active, aud: undefined },
      { introspection: { withoutAudience: true, keepSeconds: 0 } },
    );
    await guard.admit(bearing(), "any-caller");
    const answer = { iss: issuer, aud: "tidebook", iat: noon, token_introspection: active };
    const signed = async (changes: object, typ = "token-introspection+jwt") => {
      const text = await key.sign({ ...answer, ...changes }, { kid: "key-1", typ });
      const headers = { "content-type": "application/token-introspection+jwt" };
      const asked = await ask(new Response(text, { headers }), { introspection: { signed: true } });
      asked.world.answers.set(`${issuer}/keys`, Response.json({ keys: [key.publicJwk] }));
      return asked;
    };
    const good = await signed({});
    expect((await good.guard.admit(bearing(), "any-caller")).subject).toBe("rower-7");
    expect(good.asked()[0]!.init.headers).toMatchObject({ accept: "application/token-introspection+jwt" });
    for (const changes of [
      { iss: "https://elsewhere.example" },
      { aud: "ledger" },
      { iat: noon - 100 },
      { token_introspection: "yes" },
      { token_introspection: null },
      { token_introspection: ["active"] },
    ])
      expect((await (await signed(changes)).refused(bearing())).problem.code).toBe(
        "guard.introspection-unreadable",
      );
    expect((await (await signed({}, "JWT")).refused(bearing())).problem.received).toContain("typ");
  });
});

it("an issuer that names no place to ask at is told of, where opaque tokens are to be asked about", async () => {
  const world = createFakeWorld();
  const metadata = { issuer, jwks_uri: `${issuer}/keys` };
  world.answers.set(`${issuer}/.well-known/openid-configuration`, Response.json(metadata));
  const client = { clientId: "tidebook", clientSecret: "only-for-tests" };
  await expect(open({ introspection: true, client, keys: undefined }, world)).rejects.toMatchObject({
    problem: {
      code: "provider.metadata-refused",
      findings: [{ path: "introspection_endpoint", message: "is missing, and none is given by hand" }],
    },
  });
});

describe("a request signed by OAuth 1.0a", () => {
  const { publicKey, privateKey } = newKeyPair("rsa", { modulusLength: 2048 });
  const known: SignedCredentials = {
    clientSecret: "kd94hf93k423kf44",
    tokenSecret: "pfkkdhi9sl3r4s00",
    publicKey: publicKey.export({ format: "jwk" }) as { kty: string },
    subject: "rower-7",
    scope: "boxes.read",
  };
  const signedRequests = {
    credentialsOf: (clientId: string, token: string | undefined) =>
      clientId === "archive" && (token === undefined || token === "box-7") ? known : undefined,
    methods: ["HMAC-SHA1", "HMAC-SHA256", "RSA-SHA1", "PLAINTEXT"] as const,
  };
  const escape = (text: string) =>
    encodeURIComponent(text).replace(
      /[!'()*]/g,
      (each) => `%${each.charCodeAt(0).toString(16).toUpperCase()}`,
    );
  const usual = () => ({
    oauth_consumer_key: "archive",
    oauth_token: "box-7",
    oauth_signature_method: "HMAC-SHA256",
    oauth_timestamp: String(noon),
    oauth_nonce: randomUUID(),
    oauth_version: "1.0",
  });
  interface Made {
    readonly place?: "header" | "query" | "form";
    readonly query?: string;
    readonly form?: Record<string, string>;
    readonly change?: (protocol: Record<string, string>) => Record<string, string>;
    /** What it is signed with. */
    readonly secrets?: string;
  }
  const bothSecrets = `${known.clientSecret}&${known.tokenSecret}`;
  /** A signed request, by the test's own arithmetic. */
  function make({
    place = "header",
    query = "",
    form,
    change = (all) => all,
    secrets = bothSecrets,
  }: Made = {}): Request {
    const protocol = change(usual());
    const pairs = [...new URLSearchParams(query), ...Object.entries(form ?? {}), ...Object.entries(protocol)];
    const sorted = pairs.map(([name, value]) => `${escape(name)}=${escape(value)}`).sort();
    const method = form || place === "form" ? "POST" : "GET";
    const text = [method, `${audience}/boxes`, sorted.join("&")].map(escape).join("&");
    const hash = protocol["oauth_signature_method"] === "HMAC-SHA1" ? "sha1" : "sha256";
    const signature =
      protocol["oauth_signature_method"] === "PLAINTEXT"
        ? secrets
        : protocol["oauth_signature_method"] === "RSA-SHA1"
          ? signBytes("sha1", Buffer.from(text), privateKey).toString("base64")
          : createHmac(hash, secrets).update(text).digest("base64");
    const all = { oauth_signature: signature, ...protocol };
    const header = Object.entries(all).map(([name, value]) => `${escape(name)}="${escape(value)}"`);
    const inQuery = place === "query" ? new URLSearchParams(all).toString() : "";
    const search = [query, inQuery].filter((each) => each !== "").join("&");
    return new Request(`${audience}/boxes${search === "" ? "" : `?${search}`}`, {
      method,
      headers: place === "header" ? { authorization: `OAuth realm="Boxes", ${header.join(", ")}` } : {},
      ...(method === "POST" && { body: new URLSearchParams({ ...form, ...(place === "form" && all) }) }),
    });
  }

  it("is let in from header, query and form, by each method, and once", async () => {
    const { guard, refused } = await open({ signedRequests });
    const by = (method: string) => (all: Record<string, string>) => ({
      ...all,
      oauth_signature_method: method,
    });
    const all: Made[] = [
      {},
      { place: "query", query: "b=2&a=%20x&a=1+2" },
      { place: "form", form: { name: "Ümlaut & Söhne*" } },
      { query: "c@=&a3=2%20q&a3=a", form: { b5: "=%3D", c2: "" } },
      { change: by("HMAC-SHA1") },
      { change: by("RSA-SHA1") },
      { change: by("PLAINTEXT") },
    ];
    for (const each of all)
      expect(await guard.admit(make(each), { scope: "boxes.read" })).toMatchObject({
        clientId: "archive",
        subject: "rower-7",
        kind: "person",
        boundTo: "secret",
      });
    const twice = make();
    await guard.admit(twice.clone(), "any-caller");
    expect((await refused(twice)).problem.code).toBe("guard.request-replayed");
    // Who comes with a token is let in beside them.
    const bearer = new Request(audience, { headers: { authorization: `Bearer ${await sign()}` } });
    expect(await guard.admit(bearer, "any-caller")).toMatchObject({
      clientId: "ferrywell",
      boundTo: "nothing",
    });
    // Two-legged: a client for itself, which is whatever the app says it is.
    const { oauth_token: _, ...alone } = usual();
    expect(await guard.admit(make({ change: () => alone }), "any-caller")).toMatchObject({
      clientId: "archive",
    });
    const row = { ...known, id: 7, since: new Date(), note: null, roles: undefined };
    const rows = await open({ signedRequests: { credentialsOf: () => row } });
    expect(await rows.guard.admit(make(), "any-caller")).toMatchObject({ clientId: "archive" });
    // Whoever signs with a key needs no secret.
    const { clientSecret: _none, ...keyed } = known;
    const byKey = await open({ signedRequests: { credentialsOf: () => keyed } });
    expect(await byKey.guard.admit(make({ change: by("RSA-SHA1") }), "any-caller")).toHaveProperty(
      "clientId",
      "archive",
    );
  });

  it.each<[string, () => Request, string, number]>([
    ["over another address", () => new Request(`${audience}/boxes/9`, make()), "guard.request-mismatch", 401],
    ["over another method", () => new Request(make(), { method: "DELETE" }), "guard.request-mismatch", 401],
    [
      "over another query",
      () => new Request(`${audience}/boxes?all=1`, make()),
      "guard.request-mismatch",
      401,
    ],
    [
      "with another secret's length",
      () => make({ change: (all) => ({ ...all, oauth_signature: "AAAA" }) }),
      "guard.request-mismatch",
      401,
    ],
    [
      "by an unknown client",
      () => make({ change: (all) => ({ ...all, oauth_consumer_key: "x" }) }),
      "guard.request-unknown",
      401,
    ],
    [
      "with an unknown token",
      () => make({ change: (all) => ({ ...all, oauth_token: "x" }) }),
      "guard.request-unknown",
      401,
    ],
    [
      "from long ago",
      () => make({ change: (all) => ({ ...all, oauth_timestamp: String(noon - 301) }) }),
      "guard.request-time",
      401,
    ],
    [
      "from the future",
      () => make({ change: (all) => ({ ...all, oauth_timestamp: String(noon + 301) }) }),
      "guard.request-time",
      401,
    ],
    [
      "at no time",
      () => make({ change: (all) => ({ ...all, oauth_timestamp: "-1" }) }),
      "guard.request-time",
      401,
    ],
    [
      "by an unknown method",
      () => make({ change: (all) => ({ ...all, oauth_signature_method: "MD5" }) }),
      "guard.request-method-refused",
      400,
    ],
    [
      "of another version",
      () => make({ change: (all) => ({ ...all, oauth_version: "2.0" }) }),
      "guard.request-method-refused",
      400,
    ],
    [
      "without nonce",
      () => make({ change: ({ oauth_nonce: _, ...all }) => all }),
      "guard.request-unsigned",
      400,
    ],
    [
      "without timestamp",
      () => make({ change: ({ oauth_timestamp: _, ...all }) => all }),
      "guard.request-unsigned",
      400,
    ],
    [
      "with protocol parameters in two places",
      () => new Request(`${audience}/boxes?oauth_token=y`, make()),
      "guard.request-unsigned",
      400,
    ],
    [
      "in the query, with a token beside it",
      () => new Request(make({ place: "query" }), { headers: { authorization: "Bearer abc" } }),
      "guard.request-unsigned",
      400,
    ],
    [
      "not at all, but brings a token in its form",
      () =>
        new Request(`${audience}/boxes`, {
          method: "POST",
          body: new URLSearchParams({ access_token: "abc" }),
        }),
      "guard.token-misplaced",
      400,
    ],
    [
      "with a parameter twice",
      () =>
        new Request(`${audience}/boxes`, {
          headers: { authorization: 'OAuth oauth_nonce="a", oauth_nonce="b"' },
        }),
      "guard.request-unsigned",
      400,
    ],
    [
      "in a header that is no list",
      () => new Request(audience, { headers: { authorization: "OAuth nothing of it" } }),
      "guard.request-unsigned",
      400,
    ],
    [
      "with an escape that is none",
      () => new Request(audience, { headers: { authorization: 'OAuth oauth_nonce="%zz"' } }),
      "guard.request-unsigned",
      400,
    ],
    [
      "in a header of commas",
      () => new Request(audience, { headers: { authorization: `OAuth ${",".repeat(16_000)}` } }),
      "guard.request-unsigned",
      400,
    ],
    [
      "in a header of more than 16,384 characters",
      () =>
        new Request(audience, {
          headers: { authorization: make().headers.get("authorization")!.padEnd(16_400, ",") },
        }),
      "guard.request-unsigned",
      400,
    ],
    [
      "with more than a thousand parameters",
      () => make({ query: "a=1&".repeat(1000) }),
      "guard.request-unsigned",
      400,
    ],
    [
      "with a nonce of 600 characters",
      () => make({ change: (all) => ({ ...all, oauth_nonce: "n".repeat(600) }) }),
      "guard.request-unsigned",
      400,
    ],
  ])("%s is refused", async (_, build, code, status) => {
    const { refused } = await open({ signedRequests });
    const refusal = await refused(build());
    expect(refusal.problem.code).toBe(code);
    expect(refusal.status).toBe(status);
    expect(JSON.stringify(refusal.problem)).not.toContain(known.clientSecret);
  });

  it.each(["HMAC-SHA1", "HMAC-SHA256", "PLAINTEXT"])(
    "by %s with no secret at all is nobody's: not of a client without one, nor of one that is not there",
    async (method) => {
      const change = (all: Record<string, string>) => ({ ...all, oauth_signature_method: method });
      const { clientSecret, publicKey: key, ...rest } = known;
      const cases: [unknown, string, string][] = [
        [null, "&", "guard.request-unknown"],
        [undefined, "&", "guard.request-unknown"],
        [{}, "&", "guard.request-method-refused"],
        [{ ...rest, publicKey: key }, `&${known.tokenSecret}`, "guard.request-method-refused"],
        [{ ...rest, clientSecret: "" }, `&${known.tokenSecret}`, "guard.request-method-refused"],
        // The client is that one; that the token is its own has to be shown, too.
        [{ clientSecret, subject: "rower-7" }, `${clientSecret}&`, "guard.request-method-refused"],
        [
          { clientSecret, tokenSecret: "", subject: "rower-7" },
          `${clientSecret}&`,
          "guard.request-method-refused",
        ],
      ];
      for (const [answer, secrets, code] of cases) {
        const { refused } = await open({
          signedRequests: { ...signedRequests, credentialsOf: () => answer as never },
        });
        const { problem } = await refused(make({ change, secrets }));
        expect([problem.code, JSON.stringify(answer)]).toEqual([code, JSON.stringify(answer)]);
      }
    },
  );

  it.each<[string, unknown, string]>([
    ["a secret alone", "kd94hf93k423kf44", "a text of 16 characters"],
    ["rows of a database", [known], "a list"],
    ["that it is so", true, "true"],
    ["a number as a secret", { ...known, clientSecret: 7 }, '"clientSecret" is 7'],
    [
      "bytes as a secret",
      { ...known, tokenSecret: Buffer.from("x") },
      '"tokenSecret" is something of the kind Uint8Array',
    ],
    ["a person who is null", { ...known, subject: null }, '"subject" is null'],
    ["a list of scopes", { ...known, scope: ["boxes.read"] }, '"scope" is a list'],
    ["one role", { ...known, roles: "warden" }, '"roles" is a text of 6 characters'],
    ["a number among permissions", { ...known, permissions: [7] }, '"permissions" is a list'],
    ["nothing for ever", new Promise(() => undefined), "has not answered for 30 s"],
    ["a key in PEM", { ...known, publicKey: "-----BEGIN PUBLIC KEY-----" }, '"publicKey" is a text'],
  ])("is not let in where the app answers %s", async (_, answer, received) => {
    const { refused } = await open({
      signedRequests: { ...signedRequests, credentialsOf: () => answer as never },
    });
    const refusal = await refused(make());
    const { problem, status } = refusal;
    expect([problem.code, status]).toEqual(["server.hook-unusable", 500]);
    // This side is at fault: nobody is asked for anything else, nor told when to come again.
    const { headers } = refusal.response();
    expect([refusal.error, headers.get("www-authenticate"), headers.get("retry-after")]).toEqual([
      undefined,
      null,
      null,
    ]);
    expect(problem.received).toContain(received);
    expect(JSON.stringify(problem)).not.toContain(known.clientSecret);
  });

  it("is none of the guard's business where the settings do not say so", async () => {
    const { refused } = await open();
    expect((await refused(make())).problem).toMatchObject({ code: "guard.token-missing", because: "scheme" });
    const plain = { credentialsOf: signedRequests.credentialsOf };
    const { refused: usually } = await open({ signedRequests: plain });
    const request = make({ change: (all) => ({ ...all, oauth_signature_method: "PLAINTEXT" }) });
    expect((await usually(request)).problem.code).toBe("guard.request-method-refused");
    await expect(open({ signedRequests, origin: "http://boxes.example" })).rejects.toThrow(
      "settings-refused",
    );
  });
});

describe("a token for another API", () => {
  it("is exchanged once for all who ask, and kept until the shorter of the two ends", async () => {
    const world = createFakeWorld();
    const metadata = {
      issuer,
      jwks_uri: `${issuer}/keys`,
      authorization_endpoint: `${issuer}/authorize`,
      token_endpoint: `${issuer}/token`,
    };
    world.answers.set(`${issuer}/.well-known/openid-configuration`, Response.json(metadata));
    world.answers.set(`${issuer}/keys`, Response.json({ keys: [key.publicJwk] }));
    let count = 0;
    world.answers.set(`${issuer}/token`, () => {
      count += 1;
      return Response.json({
        access_token: `gauge-${count}`,
        issued_token_type: "urn:ietf:params:oauth:token-type:access_token",
        token_type: "Bearer",
        expires_in: 3600,
      });
    });
    const downstream = { gauges: { audience: "gauges", scope: "gauges.read" } };
    const client = { clientId: "tidebook", clientSecret: "only-for-tests" };
    const { guard } = await open({ keys: undefined, client, downstream }, world);
    const token = await sign();
    const caller = await guard.admit(
      new Request(audience, { headers: { authorization: `Bearer ${token}` } }),
      "any-caller",
    );
    const all = await Promise.all(Array.from({ length: 10 }, () => guard.exchange(caller, "gauges")));
    expect(all[0]).toEqual({ accessToken: "gauge-1", scope: "gauges.read", expiresAt: noon + 300 });
    expect(count).toBe(1);
    const body = new URLSearchParams(world.requests.at(-1)!.init.body as string);
    expect(Object.fromEntries(body)).toMatchObject({
      subject_token: token,
      audience: "gauges",
      scope: "gauges.read",
    });
    world.now = noon + 291;
    expect((await guard.exchange(caller, "gauges")).accessToken).toBe("gauge-2");
    const misused: [caller: unknown, api: unknown, problem: object][] = [
      [caller, "elsewhere", { received: 'the API "elsewhere"', expected: "one of the APIs gauges" }],
      ["gauges", caller, { received: expect.stringContaining("an object with") as string }],
      [{ ...caller }, "gauges", { because: "caller" }],
      [undefined, "gauges", { because: "caller", received: "undefined" }],
      [Promise.resolve(caller), "gauges", { because: "caller", received: "a promise" }],
    ];
    for (const [who, api, problem] of misused)
      await expect(guard.exchange(who as typeof caller, api as string)).rejects.toMatchObject({
        problem: { code: "guard.exchange-unknown", ...problem },
      });
    await expect(open({ downstream: { gauges: {} } }, world)).rejects.toThrow("what the token is to be for");
    const nobody = await open({ keys: undefined, downstream }, world);
    const same = await nobody.guard.admit(
      new Request(audience, { headers: { authorization: `Bearer ${await sign({ exp: noon + 900 })}` } }),
      "any-caller",
    );
    await expect(nobody.guard.exchange(same, "gauges")).rejects.toMatchObject({
      problem: {
        code: "guard.exchange-unknown",
        because: "client",
        received: `the issuer ${issuer} without client`,
      },
    });
  });
});
