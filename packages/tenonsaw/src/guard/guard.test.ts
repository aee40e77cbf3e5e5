import { inspect } from "node:util";
import { runInNewContext } from "node:vm";
import { describe, expect, it } from "vitest";
import { openGuard, type CallNeeds, type GuardSettings, type Refusal } from "tenonsaw/guard";
import type { ProblemReport, TraceEvent } from "tenonsaw/trace";
import {
  base64urlJson,
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  type FakeWorld,
  type TestKey,
} from "../../../../tests/support/fake-world.js";

const audience = "https://tidebook.example";
const key = createTestKey();
const claims = {
  iss: issuer,
  aud: audience,
  sub: "rower-7",
  client_id: "ferrywell",
  iat: noon,
  exp: noon + 300,
  jti: "token-1",
  scope: "tides.read tides.write",
};

interface Opened {
  readonly world: FakeWorld;
  readonly reports: ProblemReport[];
  readonly guard: Awaited<ReturnType<typeof openGuard>>;
  /** The refusal of a call; the test fails where it is let in. */
  readonly refused: (request: Request, needs?: CallNeeds) => Promise<Refusal>;
}

/** A guard of Tidebook whose issuer publishes these keys. */
async function open(
  settings: Partial<GuardSettings> | object = {},
  {
    keys = [key],
    metadata = {},
    world = createFakeWorld(),
  }: { keys?: TestKey[]; metadata?: object; world?: FakeWorld } = {},
): Promise<Opened> {
  world.answers.set(
    `${issuer}/.well-known/openid-configuration`,
    Response.json({ issuer, jwks_uri: `${issuer}/keys`, ...metadata }),
  );
  if (!world.answers.has(`${issuer}/keys`))
    world.answers.set(`${issuer}/keys`, Response.json({ keys: keys.map(({ publicJwk }) => publicJwk) }));
  const reports: ProblemReport[] = [];
  const all = {
    issuer,
    audience,
    platform: world.platform,
    trace: (event: TraceEvent) => world.events.push(event),
    onProblem: (report: ProblemReport) => reports.push(report),
    ...settings,
  };
  const given = Object.entries(all).filter(([, value]) => value !== undefined);
  const guard = await openGuard(Object.fromEntries(given) as unknown as GuardSettings);
  return {
    world,
    reports,
    guard,
    async refused(request, needs) {
      const error: unknown = await guard.admit(request, needs ?? "any-caller").then(
        () => "let in",
        (thrown: unknown) => thrown,
      );
      expect(error).toHaveProperty("response");
      return error as Refusal;
    },
  };
}

const call = (headers: Record<string, string> = {}, path = "/tides/today", init: RequestInit = {}) =>
  new Request(audience + path, { ...init, headers });
const bearing = (token: string) => call({ authorization: `Bearer ${token}` });
const sign = (changes: object = {}, header: object = {}, by = key) =>
  by.sign({ ...claims, ...changes }, { kid: "key-1", typ: "at+jwt", ...header });

describe("a signed access token", () => {
  it("lets its caller in, and says who it is as plain data without the token", async () => {
    const { guard, world, refused } = await open();
    const token = await sign({
      roles: ["harbour-master"],
      act: { sub: "desk", act: { sub: "bot" } },
      auth_time: noon - 9,
      acr: "two",
    });
    const caller = await guard.admit(bearing(token), { scope: "tides.read" });
    expect(caller).toMatchObject({
      issuer,
      subject: "rower-7",
      clientId: "ferrywell",
      kind: "person",
      scope: ["tides.read", "tides.write"],
      roles: ["harbour-master"],
      permissions: [],
      audience: [audience],
      expiresAt: noon + 300,
      authenticatedAt: noon - 9,
      authenticationClass: "two",
      actors: [{ subject: "desk" }, { subject: "bot" }],
      boundTo: "nothing",
    });
    const kept = JSON.stringify([caller, world.events]);
    expect(kept).not.toContain(token.split(".")[2]);
    // The same token again: nothing is asked, nothing verified, and it is the same object.
    const asked = world.requests.length;
    expect(await guard.admit(bearing(token), "any-caller")).toBe(caller);
    expect(world.requests).toHaveLength(asked);
    // And not one that ends in the same signature.
    const [header = "", , signature = ""] = token.split(".");
    const other = `${header}.${base64urlJson({ ...claims, sub: "somebody" })}.${signature}`;
    expect((await refused(bearing(other))).problem.code).toBe("guard.signature-mismatch");
    expect(() => Object.assign(caller.claims, { sub: "somebody" })).toThrow(TypeError);
  });

  it.each<[string, object, object, string, string | undefined]>([
    [
      "of an issuer nobody knows",
      { iss: "https://elsewhere.example" },
      {},
      "guard.issuer-unknown",
      undefined,
    ],
    ["whose issuer ends in a slash", { iss: `${issuer}/` }, {}, "guard.issuer-unknown", "slash"],
    [
      "whose issuer has other capitals",
      { iss: issuer.replace("quayside", "Quayside") },
      {},
      "guard.issuer-unknown",
      "letters",
    ],
    ["of another issuer at the same place", { iss: `${issuer}/v2` }, {}, "guard.issuer-unknown", "path"],
    [
      "of another environment",
      { iss: "https://sandbox.quayside.example" },
      {},
      "guard.issuer-unknown",
      "environment",
    ],
    ["without issuer", { iss: undefined }, {}, "guard.issuer-unknown", "absent"],
    ["for nobody", { aud: undefined }, {}, "guard.audience-mismatch", "absent"],
    ["for another API", { aud: "https://ledger.example" }, {}, "guard.audience-mismatch", "other-api"],
    ["for this API with a slash", { aud: `${audience}/` }, {}, "guard.audience-mismatch", "slash"],
    ["for this API in an object", { aud: { name: audience } }, {}, "guard.audience-mismatch", "absent"],
    ["that is an ID token by its nonce", { nonce: "n" }, { typ: "JWT" }, "guard.kind-refused", "id-token"],
    ["that is an ID token by a hash", { at_hash: "h" }, { typ: undefined }, "guard.kind-refused", "id-token"],
    ["that is a logout token", { events: {} }, { typ: "logout+jwt" }, "guard.kind-refused", "logout-token"],
    ["that is a proof", {}, { typ: "dpop+jwt" }, "guard.kind-refused", "proof"],
    ["that has no type", {}, { typ: undefined }, "guard.kind-refused", "untyped"],
    ["that is of some other type", {}, { typ: "secevent+jwt" }, "guard.kind-refused", undefined],
    ["without sub", { sub: undefined }, {}, "guard.claim-missing", undefined],
    ["without client_id", { client_id: undefined }, {}, "guard.claim-missing", undefined],
    ["without jti", { jti: undefined }, {}, "guard.claim-missing", undefined],
    ["without iat", { iat: undefined }, {}, "guard.claim-missing", undefined],
    ["without exp", { exp: undefined }, {}, "guard.claim-missing", undefined],
    ["whose exp is text", { exp: String(noon + 300) }, {}, "guard.claim-missing", "kind"],
    ["whose exp is after the year 9999", { exp: 1e300 }, {}, "guard.claim-missing", "kind"],
    ["whose sub is a list", { sub: ["rower-7"] }, {}, "guard.claim-missing", "kind"],
    ["whose cnf is text", { cnf: "key" }, {}, "guard.claim-missing", "kind"],
    ["whose act is text", { act: "desk" }, {}, "guard.claim-missing", "kind"],
    ["whose times are milliseconds", { exp: (noon + 300) * 1000 }, {}, "guard.claim-missing", "kind"],
    ["that was over when it was made", { exp: noon - 10, iat: noon }, {}, "guard.expired", "lifetime"],
    ["that expired this second", { exp: noon }, {}, "guard.expired", undefined],
    ["that begins too far ahead", { nbf: noon + 61 }, {}, "guard.not-yet-valid", undefined],
    ["that was made too far ahead", { iat: noon + 61 }, {}, "guard.not-yet-valid", undefined],
    ["bound in a way nobody knows", { cnf: { "x5t#S512": "x" } }, {}, "guard.binding-mismatch", "unknown"],
    ["bound to a number", { cnf: { jkt: 7 } }, {}, "guard.binding-mismatch", "unknown"],
    ["signed with a key nobody publishes", {}, { kid: "key-9" }, "guard.key-unknown", undefined],
  ])("%s is refused as what it is", async (_, changes, header, code, because) => {
    const elsewhere = {
      sandbox: "https://sandbox.quayside.example",
      "the API ledger": "https://ledger.example",
    };
    const { refused, reports } = await open({ elsewhere });
    const token = await sign(changes, header);
    const refusal = await refused(bearing(token));
    expect(refusal.problem).toMatchObject({ code, ...(because !== undefined && { because }) });
    expect(refusal.problem.because).toBe(because);
    expect([refusal.status, refusal.error]).toEqual([401, "invalid_token"]);
    // It is judged faster where nobody listens, and no otherwise.
    const unheard = await open({ elsewhere, trace: undefined });
    expect((await unheard.refused(bearing(token))).problem).toEqual(refusal.problem);
    // The log learns both values; the caller the standard's code, and neither.
    expect(reports.at(-1)).toMatchObject({ during: "GET /tides/today", problem: { code } });
    expect(reports.at(-1)!.problem.received).not.toBe("");
    const answer = refusal.response();
    expect(answer.headers.get("www-authenticate")).toContain('error="invalid_token"');
    expect(await answer.text()).not.toContain(code);
  });

  it.each<[string, (token: string) => string | Promise<string>, string, string | undefined]>([
    [
      "changed",
      (token) => token.replace(/\.(.)/, (_, first: string) => `.${first === "e" ? "f" : "e"}`),
      "guard.token-unreadable",
      undefined,
    ],
    ["signed by somebody else", () => sign({}, {}, createTestKey()), "guard.signature-mismatch", undefined],
    [
      "signed with RSA by an EC key's name",
      () => sign({}, {}, createTestKey("RS256")),
      "guard.key-unknown",
      "other-algorithm",
    ],
    ["cut at its end", (token) => token.slice(0, -2), "guard.signature-mismatch", "cut"],
    ["cut in the middle", (token) => token.slice(0, 60), "guard.token-unreadable", undefined],
    ["without signature", (token) => token.replace(/[^.]*$/, ""), "guard.signature-mismatch", "cut"],
    [
      "of alg none",
      () => `${base64urlJson({ alg: "none", typ: "at+jwt" })}.${base64urlJson(claims)}.`,
      "guard.algorithm-refused",
      undefined,
    ],
    ["signed with a MAC", () => sign({}, {}, createTestKey("HS256")), "guard.algorithm-refused", undefined],
    [
      "with a claim twice",
      () => `${base64urlJson({ alg: "ES256" })}.${base64urlJson(`{"iss":"${issuer}","iss":"x"}`)}.AA`,
      "guard.token-unreadable",
      undefined,
    ],
    ["encrypted", () => "eyJhbGciOiJkaXIifQ.a.b.c.d", "guard.token-unreadable", "encrypted"],
    ["opaque", () => "k7Gf2wQp", "guard.token-unreadable", "opaque"],
    [
      "of more than 64 KiB",
      (token) => `${token}${"A".repeat(70_000)}`,
      "guard.token-unreadable",
      "too-large",
    ],
    ["with an unknown extension", () => sign({}, { crit: ["x"], x: 1 }), "guard.token-unreadable", undefined],
  ])("%s is refused", async (_, change, code, because) => {
    const { refused } = await open();
    const refusal = await refused(bearing(await change(await sign())));
    expect(refusal.problem.code).toBe(code);
    expect(refusal.problem.because).toBe(because);
    expect(inspect(refusal).split(refusal.problem.title)).toHaveLength(2);
    expect(refusal.status).toBe(401);
  });

  it.each([
    ["while somebody listens", {}],
    ["while nobody does", { trace: undefined }],
  ])("is taken until the very second it ends, and not after, remembered or not, %s", async (_, settings) => {
    const { guard, refused, world } = await open(settings);
    const token = await sign({ nbf: noon });
    await guard.admit(bearing(token), "any-caller");
    world.now = noon + 299.9;
    await guard.admit(bearing(token), "any-caller");
    world.now = noon + 300;
    expect((await refused(bearing(token))).problem.code).toBe("guard.expired");
    // A clock that is set back finds the same.
    world.now = noon - 61;
    expect((await refused(bearing(token))).problem.code).toBe("guard.not-yet-valid");
    world.now = noon - 60;
    await guard.admit(bearing(token), "any-caller");
  });

  it("is judged by keys in the settings where nobody is to be asked", async () => {
    const { guard, refused, world } = await open({ discovery: "none", keys: [key.publicJwk] });
    expect((await guard.admit(bearing(await sign()), "any-caller")).subject).toBe("rower-7");
    expect((await refused(bearing(await sign({}, { kid: "key-9" })))).problem.because).toBe("given");
    expect(world.requests).toEqual([]);
    // RFC 9112 section 3.2.4: what is asked of a server as a whole has no address of its own.
    const whole = { method: "OPTIONS", url: "*", header: () => undefined, certificate: () => undefined };
    const form = () => Promise.resolve(new URLSearchParams());
    await expect(guard.parts.admit({ ...whole, form }, "any-caller")).rejects.toThrow(
      "(guard.token-missing)",
    );
  });

  it("that fails by a clock is told from one that has expired, where the issuer's answers say the time", async () => {
    const world = createFakeWorld();
    const issuersTime = (ahead: number) =>
      world.answers.set(`${issuer}/keys`, () =>
        Response.json(
          { keys: [key.publicJwk] },
          { headers: { date: new Date((noon + ahead) * 1000).toUTCString() } },
        ),
      );
    issuersTime(-600);
    const late = await open({}, { world });
    const refusal = await late.refused(bearing(await sign({ iat: noon - 700, exp: noon - 100 })));
    expect(refusal.problem).toMatchObject({ code: "guard.expired", because: "clock" });
    expect(refusal.problem.here).toContain("600 s ahead");
    issuersTime(600);
    const early = await open({}, { world });
    expect((await early.refused(bearing(await sign({ iat: noon + 590 })))).problem).toMatchObject({
      code: "guard.not-yet-valid",
      because: "clock",
    });
  });

  it("of an issuer that types none is taken where the settings say so, and an ID token is not", async () => {
    const { guard, refused } = await open({ untyped: true });
    for (const typ of ["JWT", undefined])
      expect(
        await guard.admit(
          bearing(await sign({ client_id: undefined, jti: undefined }, { typ })),
          "any-caller",
        ),
      ).toMatchObject({
        subject: "rower-7",
      });
    const idToken = { scope: undefined, client_id: undefined, jti: undefined };
    expect((await refused(bearing(await sign(idToken, { typ: "JWT" })))).problem).toMatchObject({
      code: "guard.kind-refused",
      because: "id-token",
    });
    expect((await refused(bearing(await sign({ nonce: "n" }, { typ: "JWT" })))).problem.because).toBe(
      "id-token",
    );
  });

  it("may be of several issuers, each with its own keys, tenants and formats", async () => {
    const other = createTestKey("ES256", "key-2");
    const harbour = "https://login.harbour.example/{organisation}";
    const { guard, refused } = await open({
      issuer: undefined,
      audience: undefined,
      issuers: [
        { issuer, audience },
        {
          issuer: harbour,
          audience,
          tenants: { placeholder: "{organisation}", admitted: ["rowing-club"] },
          keys: [other.publicJwk],
          claims: { format: 2 },
          formats: {
            "1": { audience: "harbour-cranes", claims: { format: 1 }, untyped: true, scope: "/permissions" },
            "0": { claims: { format: 0 }, untyped: true, refused: true },
            "old name": { issuer: "https://harbour.example", claims: { era: "old" } },
          },
        },
      ],
    });
    const iss = "https://login.harbour.example/rowing-club";
    const by = (changes: object, typ: string, kid = "key-2") =>
      sign({ iss, ...changes }, { kid, typ }, other);
    await guard.admit(bearing(await sign()), "any-caller");
    await guard.admit(bearing(await by({ format: 2 }, "at+jwt")), "any-caller");
    const old = await by(
      { format: 1, aud: "harbour-cranes", permissions: ["cranes.operate"], scope: undefined },
      "JWT",
    );
    expect((await guard.admit(bearing(old), "any-caller")).scope).toEqual(["cranes.operate"]);
    await guard.admit(
      bearing(await by({ iss: "https://harbour.example", era: "old" }, "at+jwt")),
      "any-caller",
    );
    const refusals = [
      [await by({ iss: "https://harbour.example", format: 2 }, "at+jwt"), { code: "guard.format-refused" }],
      [await by({ era: "old" }, "at+jwt"), { code: "guard.format-refused" }],
      [await by({ format: 0 }, "JWT"), { code: "guard.format-refused", received: 'the format "0"' }],
      [await by({ format: 3 }, "at+jwt"), { code: "guard.format-refused", received: 'format "3"' }],
      [
        await by({ iss: "https://login.harbour.example/chess-club", format: 2 }, "at+jwt"),
        { because: "tenant" },
      ],
      // Of a tenant's issuer a text alone is a spelling.
      [await by({ iss: 5, format: 2 }, "at+jwt"), { code: "guard.issuer-unknown" }],
      [await by({ iss: [iss], format: 2 }, "at+jwt"), { code: "guard.issuer-unknown" }],
      // A key of one issuer proves nothing for another.
      [await sign({ iss, format: 2 }), { code: "guard.key-unknown" }],
      [await sign({}, { kid: "key-2" }, other), { code: "guard.key-unknown" }],
    ] as const;
    for (const [token, problem] of refusals)
      expect((await refused(bearing(token))).problem).toMatchObject(problem);
  });
});

describe("a hostile token", () => {
  const deep = `{"iss":"${issuer}","x":${"[".repeat(30_000)}${"]".repeat(30_000)}}`;
  it.each<[string, () => string | Promise<string>, string]>([
    ["of 60,000 characters and no dots", () => "a".repeat(60_000), "guard.token-unreadable"],
    ["of dots", () => `ey${".".repeat(60_000)}`, "guard.token-unreadable"],
    [
      "of brackets",
      () => `${base64urlJson({ alg: "ES256" })}.${base64urlJson(deep)}.AA`,
      "guard.token-unreadable",
    ],
    [
      "with 10,000 scopes, of a stranger",
      () => sign({ scope: "s ".repeat(10_000) }, {}, createTestKey()),
      "guard.signature-mismatch",
    ],
    [
      "with 10,000 scopes, of the issuer",
      () => sign({ scope: "s ".repeat(10_000).trim() }),
      "guard.scope-missing",
    ],
    [
      "with 5,000 audiences",
      () => sign({ aud: Array.from({ length: 5000 }, (_, id) => `a${id}`) }),
      "guard.audience-mismatch",
    ],
    [
      "with an actor in each of 30 actors",
      () => sign({ act: JSON.parse(`${'{"act":'.repeat(25)}{}${"}".repeat(25)}`) as object }),
      "guard.scope-missing",
    ],
    [
      "with names of the prototype",
      () => sign({ ["__proto__"]: { scope: "x" }, constructor: "x" }),
      "guard.scope-missing",
    ],
    [
      "whose iss is 30,000 characters",
      () => sign({ iss: `${issuer}/${"x".repeat(30_000)}` }),
      "guard.issuer-unknown",
    ],
  ])("%s is refused, and what is told of it is short", async (_, make, code) => {
    const { refused, world } = await open();
    const token = await make();
    const refusal = await refused(bearing(token), { scope: "tides.never" });
    expect(refusal.problem.code).toBe(code);
    expect(refusal.message.length).toBeLessThan(10_000);
    expect(world.requests.length).toBeLessThan(4);
  });
});

describe("the issuer's keys", () => {
  it("that are rotated are fetched once for all who wait, and made-up key IDs cost one request a cool-down", async () => {
    const next = createTestKey("ES256", "key-2");
    const { guard, refused, world } = await open();
    await guard.admit(bearing(await sign()), "any-caller");
    const fetched = () => world.requests.filter(({ url }) => url === `${issuer}/keys`).length;
    expect(fetched()).toBe(1);
    world.answers.set(`${issuer}/keys`, Response.json({ keys: [key.publicJwk, next.publicJwk] }));
    const tokens = await Promise.all(
      Array.from({ length: 20 }, (_, id) => sign({ jti: String(id) }, { kid: "key-2" }, next)),
    );
    await Promise.all(tokens.map((token) => guard.admit(bearing(token), "any-caller")));
    expect(fetched()).toBe(2);
    const flood = await Promise.all(
      Array.from({ length: 200 }, (_, id) => sign({}, { kid: `made-up-${id}` })),
    );
    for (const token of flood) {
      world.now += 0.04;
      expect((await refused(bearing(token))).problem.code).toBe("guard.key-unknown");
    }
    // Eight seconds, five seconds between two.
    expect(fetched()).toBeLessThanOrEqual(4);
  });

  it("that are withdrawn are withdrawn here, for tokens that were let in before as well", async () => {
    const next = createTestKey("ES256", "key-2");
    const { guard, refused, world } = await open();
    const token = await sign();
    await guard.admit(bearing(token), "any-caller");
    world.answers.set(`${issuer}/keys`, Response.json({ keys: [next.publicJwk] }));
    await guard.admit(bearing(token), "any-caller");
    await guard.admit(bearing(await sign({}, { kid: "key-2" }, next)), "any-caller");
    expect((await refused(bearing(token))).problem.code).toBe("guard.key-unknown");
  });

  it("that cannot be fetched any more go on being used, and an issuer that never answered is a 503 that ends by itself", async () => {
    const { guard, world } = await open();
    const token = await sign();
    await guard.admit(bearing(token), "any-caller");
    world.answers.set(`${issuer}/keys`, new TypeError("away"));
    world.now += 7200;
    await guard.admit(bearing(await sign({ iat: world.now, exp: world.now + 300 })), "any-caller");

    const away = createFakeWorld();
    away.answers.set(`${issuer}/keys`, new TypeError("away"));
    const { guard: second, refused, reports } = await open({}, { world: away });
    const refusal = await refused(bearing(token));
    expect(refusal.problem.code).toBe("guard.issuer-unusable");
    const answer = refusal.response();
    expect([
      answer.status,
      answer.headers.get("retry-after"),
      answer.headers.get("www-authenticate"),
    ]).toEqual([503, "5", null]);
    expect(reports.at(-1)!.problem.received).toContain("platform.unreachable");
    away.answers.set(`${issuer}/keys`, Response.json({ keys: [key.publicJwk] }));
    away.now += 6;
    const fresh = await sign({ iat: away.now, exp: away.now + 300 });
    expect(await second.admit(bearing(fresh), "any-caller")).toMatchObject({ subject: "rower-7" });
  });

  it("of an issuer that is away when the guard opens are asked for by the first call, once in a while; a wrong issuer is told at once", async () => {
    const world = createFakeWorld();
    const reports: ProblemReport[] = [];
    const settings = {
      issuer,
      audience,
      platform: world.platform,
      onProblem: (each: ProblemReport) => reports.push(each),
    };
    const guard = await openGuard(settings);
    expect(reports[0]).toMatchObject({
      during: "opening the guard",
      problem: { code: "guard.issuer-unusable" },
    });
    const asked = world.requests.length;
    for (let count = 0; count < 50; count += 1)
      await guard.admit(bearing(await sign()), "any-caller").catch(() => undefined);
    expect(world.requests).toHaveLength(asked);
    await expect(open({}, { metadata: { issuer: `${issuer}/` } })).rejects.toMatchObject({
      problem: { code: "provider.issuer-mismatch", because: "slash" },
    });
    await expect(open({}, { metadata: { jwks_uri: "http://127.0.0.1/keys" } })).rejects.toMatchObject({
      problem: { code: "provider.metadata-refused" },
    });
  });
});

describe("what a call takes", () => {
  const noVerdicts: Readonly<Record<string, () => unknown>> = {
    "a promise": () => Promise.resolve(true),
    "a number": () => 1,
    nothing: () => undefined,
    "a word": () => "no",
  };
  type Row = [string, CallNeeds, object, string | undefined, number?];
  it.each<Row>([
    ["all scopes", { scope: "tides.read tides.write" }, {}, undefined],
    ["a scope that is not there", { scope: ["tides.read", "tides.delete"] }, {}, "guard.scope-missing", 403],
    ["a scope by its beginning", { scope: "tides" }, {}, "guard.scope-missing", 403],
    ["one of two scopes", { anyScope: "tides.delete tides.read" }, {}, undefined],
    ["none of two scopes", { anyScope: "a b" }, {}, "guard.scope-missing", 403],
    ["a role", { role: "harbour-master" }, { groups: { of: ["harbour-master"] } }, undefined],
    [
      "a role that is not there",
      { anyRole: ["harbour-master"] },
      { groups: { of: ["rower"] } },
      "guard.role-missing",
      403,
    ],
    ["a role of a token without roles", { role: "harbour-master" }, {}, "guard.role-missing", 403],
    ["a permission", { permission: "cranes.operate" }, { permissions: "cranes.operate boats" }, undefined],
    [
      "no permission",
      { anyPermission: "cranes.operate" },
      { permissions: ["boats"] },
      "guard.role-missing",
      403,
    ],
    ["a claim", { claims: { "/club/id": 7 } }, { club: { id: 7 } }, undefined],
    ["another claim", { claims: { "/club/id": 7 } }, { club: { id: "7" } }, "guard.claim-refused", 403],
    [
      "a claim by a function",
      { claims: { "/club": (value) => value === undefined } },
      { club: 1 },
      "guard.claim-refused",
      403,
    ],
    ...Object.entries(noVerdicts).map(([answer, judge]): Row => [
      `a claim by a function that answers ${answer}`,
      { claims: { "/club": judge as never } },
      { club: 1 },
      "server.hook-unusable",
      500,
    ]),
    ["a person", { caller: "person" }, {}, undefined],
    ["a person, and a client calls", { caller: "person" }, { sub: "ferrywell" }, "guard.caller-refused", 403],
    ...["azp", "cid", "appid"].map((name): [string, CallNeeds, object, string, number] => [
      `a person, and a client calls that \`${name}\` names`,
      { caller: "person" },
      { [name]: "rower-7" },
      "guard.caller-refused",
      403,
    ]),
    ["a client, and a person is called for", { caller: "client" }, {}, "guard.caller-refused", 403],
    ["nobody who acts", { actor: "nobody" }, { act: { sub: "desk" } }, "guard.actor-refused", 403],
    ["a known actor", { actor: ["desk"] }, { act: { sub: "desk", act: { sub: "bot" } } }, undefined],
    [
      "an actor who acted before",
      { actor: ["bot"] },
      { act: { sub: "desk", act: { sub: "bot" } } },
      "guard.actor-refused",
      403,
    ],
    ["a bound token", { bound: true }, {}, "guard.binding-mismatch", 401],
    ["a class", { acrValues: "two three" }, { acr: "two" }, undefined],
    ["a stronger class", { acrValues: "three" }, { acr: "two" }, "guard.authentication-insufficient", 401],
    ["a class of a token without", { acrValues: "two" }, {}, "guard.authentication-insufficient", 401],
    ["a recent proof", { maxAge: 300 }, { auth_time: noon - 300 }, undefined],
    [
      "a more recent proof",
      { maxAge: 299 },
      { auth_time: noon - 300 },
      "guard.authentication-insufficient",
      401,
    ],
    [
      "a proof from the future",
      { maxAge: 300 },
      { auth_time: noon + 100 },
      "guard.authentication-insufficient",
      401,
    ],
    ["a recent proof of a token without", { maxAge: 300 }, {}, "guard.authentication-insufficient", 401],
  ])("%s", async (_, needs, changes, code, status) => {
    const { guard, refused } = await open({ roles: "/groups/of", trace: undefined });
    const request = bearing(await sign(changes));
    if (code === undefined) {
      expect((await guard.admit(request, needs)).clientId).toBe("ferrywell");
      return;
    }
    const refusal = await refused(request, needs);
    expect(refusal.problem.code).toBe(code);
    expect(refusal.status).toBe(status);
    expect(refusal.problem.received).not.toBe(refusal.problem.expected);
  });

  it("tells scopes that are not there from scopes that stand elsewhere, by the names of the claims", async () => {
    const { refused } = await open();
    const token = await sign({ scope: undefined, scp: ["tides.read"] });
    const { problem } = await refused(bearing(token), { scope: "tides.read" });
    expect([problem.code, problem.because]).toEqual(["guard.scope-missing", "nothing-there"]);
    expect(problem.received).toMatch(/^scopes none; it has the claims .*"scp"; lacking "tides.read"$/);
  });
});

it("a promise of another world's is waited for, and is no verdict", async () => {
  const world = createFakeWorld();
  const { crypto } = world.platform;
  const foreign = runInNewContext("(work) => ({ then: (next) => work().then(next) })") as (
    work: () => Promise<boolean>,
  ) => Promise<boolean>;
  const platform = {
    ...world.platform,
    crypto: { ...crypto, verify: () => foreign(() => Promise.resolve(false)) },
  };
  const { refused } = await open({ platform }, { world });
  expect((await refused(bearing(await sign()))).problem.code).toBe("guard.signature-mismatch");
});

describe("a call", () => {
  it.each<[string, Request, object, string, string | undefined, number, string | undefined]>([
    ["without anything", call(), {}, "guard.token-missing", undefined, 401, undefined],
    ["with a cookie", call({ cookie: "session=1" }), {}, "guard.token-missing", "cookie", 401, undefined],
    [
      "with another scheme",
      call({ authorization: "Basic YTpi" }),
      {},
      "guard.token-missing",
      "scheme",
      401,
      undefined,
    ],
    [
      "with a bare token",
      call({ authorization: "eyJhbGciOiJub25lIn0.e30." }),
      {},
      "guard.token-missing",
      "scheme",
      401,
      undefined,
    ],
    [
      "with its scheme right before the token",
      call({ authorization: "BearereyJhbGciOiJub25lIn0.e30." }),
      {},
      "guard.token-missing",
      "no-space",
      401,
      undefined,
    ],
    [
      "with a token out of an address",
      call({ authorization: "Bearer abc%3D%3D" }),
      {},
      "guard.credentials-malformed",
      "encoded",
      400,
      "invalid_request",
    ],
    [
      "with a scheme alone",
      call({ authorization: "Bearer" }),
      {},
      "guard.credentials-malformed",
      "scheme-alone",
      400,
      "invalid_request",
    ],
    [
      "with quotes",
      call({ authorization: 'Bearer "abc"' }),
      {},
      "guard.credentials-malformed",
      "quotes",
      400,
      "invalid_request",
    ],
    [
      "with its scheme twice",
      call({ authorization: "Bearer Bearer abc" }),
      {},
      "guard.credentials-malformed",
      "scheme-twice",
      400,
      "invalid_request",
    ],
    [
      "with an object made a text",
      call({ authorization: "Bearer [object Object]" }),
      {},
      "guard.credentials-malformed",
      "object",
      400,
      "invalid_request",
    ],
    [
      "with a variable that has no value",
      call({ authorization: "Bearer undefined" }),
      {},
      "guard.token-unreadable",
      "word",
      401,
      "invalid_token",
    ],
    [
      "with two tokens",
      call({ authorization: "Bearer abc, Bearer def" }),
      {},
      "guard.credentials-malformed",
      "several",
      400,
      "invalid_request",
    ],
    [
      "with a token of odd characters",
      call({ authorization: "Bearer a b" }),
      {},
      "guard.credentials-malformed",
      undefined,
      400,
      "invalid_request",
    ],
    [
      "with a token in the query",
      call({}, "/?access_token=abc"),
      {},
      "guard.token-misplaced",
      undefined,
      400,
      "invalid_request",
    ],
    [
      "with tokens in the header and, escaped, in the query",
      call({ authorization: "Bearer abc" }, "/?acc%65ss_token=abc"),
      {},
      "guard.token-misplaced",
      undefined,
      400,
      "invalid_request",
    ],
    [
      "with tokens in the header and the form",
      call({ authorization: "Bearer abc", "content-type": "application/x-www-form-urlencoded" }, "/", {
        method: "POST",
        body: "access_token=def",
      }),
      { formToken: true },
      "guard.token-misplaced",
      undefined,
      400,
      "invalid_request",
    ],
    [
      "with two tokens in the form",
      call({ "content-type": "application/x-www-form-urlencoded" }, "/", {
        method: "POST",
        body: "access_token=a&access_token=b",
      }),
      { formToken: true },
      "guard.credentials-malformed",
      "several",
      400,
      "invalid_request",
    ],
  ])("%s", async (_, request, settings, code, because, status, error) => {
    const { refused } = await open(settings);
    const refusal = await refused(request);
    expect(refusal.problem).toMatchObject({ code });
    expect(refusal.problem.because).toBe(because);
    expect([refusal.status, refusal.error]).toEqual([status, error]);
  });

  it("may bring the token in a form where the settings say so, and its body stays for the handler", async () => {
    const token = await sign();
    const form = () =>
      call({ "content-type": "application/x-www-form-urlencoded" }, "/", {
        method: "POST",
        body: new URLSearchParams({ access_token: token, slot: "7" }),
      });
    const { guard } = await open({ formToken: true });
    const request = form();
    await guard.admit(request, "any-caller");
    expect(new URLSearchParams(await request.text()).get("slot")).toBe("7");
    const { refused } = await open();
    expect((await refused(form())).problem.code).toBe("guard.token-missing");
    const long = call({ "content-type": "application/x-www-form-urlencoded" }, "/", {
      method: "POST",
      body: "a".repeat(300_000),
    });
    const opened = await open({ formToken: true });
    expect((await opened.refused(long)).status).toBe(413);
    const bare = call({ "content-type": "application/x-www-form-urlencoded" }, "/", {
      method: "POST",
      body: "slot=7",
    });
    expect((await opened.refused(bare)).problem.code).toBe("guard.token-missing");
  });
});

describe("the answer to a call that is refused", () => {
  it("is by the book: challenges, what is needed, where the API describes itself, and nothing that a cache keeps", async () => {
    const { refused } = await open({ scopes: ["tides.read"] });
    const bare = (await refused(call(), { scope: "tides.read" })).response();
    expect(bare.headers.get("www-authenticate")).toBe(
      `Bearer realm="${audience}", resource_metadata="${audience}/.well-known/oauth-protected-resource", scope="tides.read", ` +
        `DPoP realm="${audience}", resource_metadata="${audience}/.well-known/oauth-protected-resource", algs="ES256 ES384 ES512 EdDSA PS256 RS256", scope="tides.read"`,
    );
    expect(bare.headers.has("dpop-nonce") || bare.headers.has("retry-after")).toBe(false);
    const challenges = async (authorization: string) =>
      (await refused(call({ authorization }))).response().headers.get("www-authenticate")?.split(", DPoP ");
    // The way that was tried is the one that is told what was wrong with it.
    for (const tried of ["DPoP a token", "DPoP"])
      expect((await challenges(tried))?.map((each) => each.includes("error="))).toEqual([false, true]);
    expect((await challenges("Bearer a token"))?.map((each) => each.includes("error="))).toEqual([
      true,
      false,
    ]);
    expect(bare.headers.get("cache-control")).toBe("no-store");
    expect(bare.headers.get("content-type")).toBe("application/problem+json");
    expect(await bare.json()).toEqual({ title: "The call is not authorised", status: 401 });
    const scope = (await refused(bearing(await sign()), { scope: "tides.delete" })).response();
    expect(scope.headers.get("www-authenticate")).toContain(
      'error="insufficient_scope", scope="tides.delete"',
    );
    const role = (
      await refused(bearing(await sign()), { scope: "tides.read", role: "harbour-master" })
    ).response();
    expect(role.headers.get("www-authenticate")).toContain('error="insufficient_scope", DPoP');
    const stepUp = (await refused(bearing(await sign()), { acrValues: "two three", maxAge: 60 })).response();
    expect(stepUp.status).toBe(401);
    expect(stepUp.headers.get("www-authenticate")).toContain(
      'error="insufficient_user_authentication", acr_values="two three", max_age="60"',
    );
  });

  it("tells the developer more in development, and lists what was refused, without markup of the caller's", async () => {
    const { guard, refused } = await open({ development: true, origin: "http://localhost:4601" });
    const refusal = await refused(bearing(await sign({ iss: "https://<b>.example" })));
    expect(await refusal.response().json()).toMatchObject({
      code: "guard.issuer-unknown",
      error: "invalid_token",
    });
    expect(refusal.response().headers.get("www-authenticate")).toContain("error_description=");
    const listAt = (at: string) => guard.handle(new Request(`${at}/guard/refusals`));
    const page = await (await listAt("http://localhost:4601"))!.text();
    expect(page).toContain("guard.issuer-unknown");
    expect(page).not.toContain("<b>");
    // A name that somebody has led here is not this machine's.
    expect(await listAt("http://rebound.example:4601")).toBeUndefined();
    const production = await open();
    expect(await production.guard.handle(call({}, "/guard/refusals"))).toBeUndefined();
  });

  it("can be read by the pages that may, and a preflight is answered without a token", async () => {
    const origin = "https://ferrywell.example";
    const { guard, refused } = await open({ pageOrigins: [origin] });
    const answer = (await refused(call({ origin }))).response();
    expect(answer.headers.get("access-control-allow-origin")).toBe(origin);
    expect(answer.headers.get("access-control-expose-headers")).toContain("WWW-Authenticate");
    const foreign = (await refused(call({ origin: "https://other.example" }))).response();
    expect(foreign.headers.get("access-control-allow-origin")).toBeNull();
    expect(foreign.headers.get("vary")).toBe("Origin");
    const preflight = (from: string) =>
      guard.handle(
        call(
          {
            origin: from,
            "access-control-request-method": "DELETE",
            "access-control-request-headers": "authorization,dpop",
          },
          "/slots/7",
          { method: "OPTIONS" },
        ),
      );
    const allowed = await preflight(origin);
    expect(allowed!.status).toBe(204);
    expect(allowed!.headers.get("access-control-allow-headers")).toBe("authorization,dpop");
    expect(allowed!.headers.get("access-control-allow-methods")).toContain("DELETE");
    expect(
      (await preflight("https://other.example"))!.headers.get("access-control-allow-methods"),
    ).toBeNull();
    const alone = await open();
    const own = call({ origin, "access-control-request-method": "GET" }, "/", { method: "OPTIONS" });
    expect(await alone.guard.handle(own)).toBeUndefined();
    const page = guard.protect(() => new Response("tides", { headers: { vary: "Accept" } }), "any-caller");
    const read = await page(call({ origin, authorization: `Bearer ${await sign()}` }));
    expect(read.headers.get("access-control-allow-origin")).toBe(origin);
    expect(read.headers.get("vary")).toBe("Accept, Origin");
    // What is the guard's own is answered in front of the handler.
    const metadata = await page(call({}, "/.well-known/oauth-protected-resource"));
    expect(await metadata.json()).toMatchObject({ resource: audience });
  });
});

describe("the guard", () => {
  it("describes the API where the standard looks for it", async () => {
    const { guard } = await open({
      resource: `${audience}/v1`,
      name: "Tidebook",
      scopes: ["tides.read"],
      formToken: true,
    });
    const answer = await guard.handle(call({}, "/.well-known/oauth-protected-resource/v1"));
    expect(await answer!.json()).toEqual({
      resource: `${audience}/v1`,
      authorization_servers: [issuer],
      scopes_supported: ["tides.read"],
      bearer_methods_supported: ["header", "body"],
      resource_name: "Tidebook",
      dpop_signing_alg_values_supported: ["ES256", "ES384", "ES512", "EdDSA", "PS256", "RS256"],
    });
    expect(await guard.handle(call({}, "/.well-known/oauth-protected-resource"))).toBeUndefined();
    expect(await guard.handle(call())).toBeUndefined();
  });

  it.each([
    undefined,
    null,
    "https://id.quayside.example",
    { issuer, audience: `${audience} ` },
    { issuer: `${issuer}/{tenant}`, audience },
  ])("takes no settings that are %j", async (settings) => {
    await expect(openGuard(settings as never)).rejects.toThrow("(provider.settings-refused)");
  });

  it("is told what a framework's own request is, and takes none", async () => {
    const { guard } = await open();
    const foreign = { headers: { authorization: "Bearer abc" }, url: "/", method: "GET" };
    const works = [
      () => guard.admit(foreign as never, "any-caller"),
      () => guard.handle(undefined as never),
      () => guard.protect(() => new Response(), "any-caller")(foreign as never),
    ];
    for (const each of works)
      await expect(each()).rejects.toMatchObject({ problem: { code: "server.not-a-request" } });
  });

  it("protects a handler, whose needs may depend on the call, and leaves its own errors alone", async () => {
    const { guard } = await open();
    const operations = guard.protect(
      async (request, caller) => {
        if ((await request.text()) === "fail") throw new RangeError("the app's own");
        return Response.json(caller.subject);
      },
      async (request) => ({
        scope: (await request.clone().text()) === "remove" ? "tides.delete" : "tides.read",
      }),
    );
    const post = async (body: string) =>
      operations(call({ authorization: `Bearer ${await sign()}` }, "/graph", { method: "POST", body }));
    expect(await (await post("read")).json()).toBe("rower-7");
    expect((await post("remove")).status).toBe(403);
    await expect(post("fail")).rejects.toThrow(RangeError);
    const tides = guard.protect(() => undefined as never, "any-caller");
    await expect(tides(call({ authorization: `Bearer ${await sign()}` }))).rejects.toThrow(
      "(server.not-a-response)",
    );
    expect(() => guard.protect(undefined as never, "any-caller")).toThrow("(server.unfit-argument)");
  });

  it.each<[string, object, string, string]>([
    ["a misspelt name", { audiance: "x" }, "audiance", 'unknown setting, did you mean "audience"?'],
    ["no audience", { audience: undefined }, "audience", "is missing"],
    ["a MAC", { algorithms: ["HS256"] }, "algorithms.0", "must be among"],
    ["introspection without client", { introspection: true }, "client", "is missing"],
    [
      "a placeholder that is not there",
      { tenants: { placeholder: "{t}", admitted: "any" } },
      "issuer",
      "must contain",
    ],
    ["an origin with a path", { origin: `${audience}/` }, "origin", "must be an origin"],
    ["a short nonce secret", { proofNonces: "short" }, "proofNonces", "32 characters"],
    [
      "an issuer that is not https",
      { issuer: "http://id.quayside.example" },
      "issuer",
      "must be an https URL",
    ],
    ["no keys and no discovery", { discovery: "none" }, "jwksUri", "is missing"],
    ["keys that are none", { keys: [] }, "keys", "must hold one at least"],
    ["half a key", { keys: [{ kty: "RSA", n: "AQAB" }] }, "keys.0", "RSA with n and e"],
    ["a key of a MAC", { keys: [{ kty: "oct", k: "AQAB" }] }, "keys.0", "must be a public key: "],
    [
      "the issuer's own key",
      { keys: [{ kty: "OKP", crv: "Ed25519", x: "AQAB", d: "AQAB" }] },
      "keys.0",
      "must be a public key, and has its private part, d",
    ],
    ["two scopes in one", { scopes: ["tides.read slots.write"] }, "scopes.0", "must be one scope"],
    ["an issuer beside the list of them", { issuers: [{ issuer, audience }] }, "audience", "into an entry"],
  ])("refuses settings with %s", async (_, settings, path, message) => {
    const error: unknown = await open(settings).catch((thrown: unknown) => thrown);
    expect(error).toMatchObject({ problem: { code: "provider.settings-refused" } });
    const { findings } = (error as Refusal).problem;
    expect(findings).toContainEqual({ path, message: expect.stringContaining(message) as string });
  });
});
