import { createHash, createHmac, randomUUID } from "node:crypto";
import { describe, expect, it } from "vitest";
import { openGuard } from "tenonsaw/guard";
import { createTools, prepareKey, signJws, thumbprint } from "tenonsaw/jose";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { createSignIn } from "tenonsaw/server";
import { createFakeWorld, createTestKey, issuer, metadata, type FakeWorld } from "./support/fake-world.js";
import { KeptFresh } from "../packages/tenonsaw/src/trace/kept-fresh.js";
import { sealingKey } from "../scripts/sealing-key.mjs";

/**
 * The law: what lasts is measured by a clock that nobody sets, what was used once is used up whatever the clock of the wall says,
 * and nothing is gone by for ever because nobody answers.
 */
const audience = "https://tidebook.example";
const [first, second] = [createTestKey("ES256", "first"), createTestKey("ES256", "second")];
const owner = createTestKey("ES256", "owner");
const tools = createTools();
const jkt = await thumbprint(tools, owner.publicJwk);
const keysAt = `${issuer}/keys`;
const metadataAt = `${issuer}/.well-known/openid-configuration`;
const nothingUnderway = () => new Promise((resolve) => setTimeout(resolve, 0));

async function open(settings: object = {}, world: FakeWorld = createFakeWorld()) {
  let checks = 0;
  const { crypto } = world.platform;
  const counted = {
    ...crypto,
    verify: (...all: Parameters<typeof crypto.verify>) => ((checks += 1), crypto.verify(...all)),
  };
  for (const [url, answer] of Object.entries({
    [metadataAt]: metadata,
    [keysAt]: { keys: [first.publicJwk] },
  }))
    if (!world.answers.has(url)) world.answers.set(url, () => Response.json(answer));
  const guard = await openGuard({
    issuer,
    audience,
    platform: { ...world.platform, crypto: counted },
    onProblem: () => undefined,
    ...settings,
  });
  const codeOf = (token: string, headers: object = {}) =>
    guard
      .admit(
        new Request(audience, { headers: { authorization: `Bearer ${token}`, ...headers } }),
        "any-caller",
      )
      .then(
        () => "let in",
        (error: unknown) => (error as { problem: { code: string } }).problem.code,
      );
  return { world, codeOf, checks: () => checks };
}

const tokenOf = (by = first, changes: object = {}) =>
  by.sign(
    {
      iss: issuer,
      aud: audience,
      sub: "rower-7",
      client_id: "ferrywell",
      iat: 1,
      exp: 4e9,
      jti: randomUUID(),
      ...changes,
    },
    { kid: by.publicJwk.kid!, typ: "at+jwt" },
  );

/** Clocks that somebody sets: when a request was taken, and again when it is sent once more. */
const steps: readonly (readonly [string, number, number, number])[] = [
  ["an hour ahead and back", 3600, 30, 0],
  ["an hour ahead and back, two minutes later", 3600, 130, -130],
  ["an hour back, when the marks are long swept", 0, 3600, -3600],
  ["a day back", 0, 86_400, -86_400],
];

describe.each([
  ["in memory", () => Promise.resolve({})],
  ["in a store", async () => ({ store: await openSqliteStore(":memory:") })],
])("what is used once, noted %s", (_, storeOf) => {
  const nonceOf = () => randomUUID();
  const proofOf = async (token: string, iat: number) => {
    const { kty, crv, x, y } = owner.publicJwk as unknown as Record<string, string>;
    const ath = createHash("sha256").update(token).digest("base64url");
    const payload = { jti: nonceOf(), htm: "GET", htu: `${audience}/`, iat, ath };
    const key = await prepareKey(tools, owner.privateJwk, "ES256", "sign");
    return signJws(tools, key, payload, { typ: "dpop+jwt", jwk: { kty, crv, x, y } });
  };
  const bound = async (at: number) => {
    const token = await tokenOf(first, { cnf: { jkt } });
    return { authorization: `DPoP ${token}`, dpop: await proofOf(token, at) };
  };
  const signed = (at: number) => {
    const values: Record<string, string> = {
      oauth_consumer_key: "old-wharf",
      oauth_nonce: nonceOf(),
      oauth_signature_method: "HMAC-SHA256",
      oauth_timestamp: String(at),
    };
    const encode = encodeURIComponent;
    const listed = Object.entries(values).map(([name, value]) => `${encode(name)}=${encode(value)}`);
    const base = ["GET", encode(`${audience}/`), encode(listed.join("&"))].join("&");
    const signature = createHmac("sha256", "only-for-tests&").update(base).digest("base64");
    const all = Object.entries({ ...values, oauth_signature: signature });
    return Promise.resolve({
      authorization: `OAuth ${all.map(([name, value]) => `${name}="${encode(value)}"`).join(", ")}`,
    });
  };

  it.each(
    steps.flatMap((step) => [
      ["proof", bound, ...step] as const,
      ["signed request", signed, ...step] as const,
    ]),
  )("a %s is used up, whatever becomes of the clock", async (_kind, make, _step, ahead, later, after) => {
    const { world, codeOf } = await open({
      ...(await storeOf()),
      signedRequests: { credentialsOf: () => ({ clientSecret: "only-for-tests" }) },
    });
    const used = await make(world.now);
    expect(await codeOf("", used)).toBe("let in");
    // Others come and what has run out is cleared away: before the clock is set, and while it is.
    world.steppedBy = ahead;
    world.now += later;
    for (let count = 0; count < 3; count += 1)
      expect(await codeOf("", await make(Math.floor(world.now + ahead)))).toBe("let in");
    world.steppedBy = after;
    expect(await codeOf("", used)).toMatch(/replayed/);
    // Whoever signs now, by a clock like this one, is let in when at most that minute is over.
    world.now += 120;
    expect(await codeOf("", await make(Math.floor(world.now + world.steppedBy)))).toBe("let in");
  });
});

describe("an issuer's keys", () => {
  it.each([0, -3600, -86_400, 86_400])("are withdrawn an hour later, the clock set by %s s", async (step) => {
    const { world, codeOf } = await open();
    const token = await tokenOf();
    expect(await codeOf(token)).toBe("let in");
    world.answers.set(keysAt, () => Response.json({ keys: [second.publicJwk] }));
    world.steppedBy = step;
    world.now += 3601;
    expect(await codeOf(token)).toBe("guard.key-unknown");
    expect(await codeOf(await tokenOf())).toBe("guard.key-unknown");
    expect(await codeOf(await tokenOf(second))).toBe("let in");
  });

  it("are gone by for a day more while nobody answers, and no longer", async () => {
    const { world, codeOf } = await open();
    const token = await tokenOf();
    expect(await codeOf(token)).toBe("let in");
    for (const each of [keysAt, metadataAt]) world.answers.set(each, new TypeError("fetch failed"));
    world.now += 3600 + 86_000;
    expect([await codeOf(token), await codeOf(await tokenOf())]).toEqual(["let in", "let in"]);
    world.now += 600;
    expect([await codeOf(token), await codeOf(await tokenOf())]).toEqual(
      Array(2).fill("guard.issuer-unusable"),
    );
    world.answers.set(metadataAt, () => Response.json(metadata));
    world.answers.set(keysAt, () => Response.json({ keys: [first.publicJwk] }));
    world.now += 6;
    expect(await codeOf(token)).toBe("let in");
  });

  it("keep nobody waiting while the issuer hangs", async () => {
    const world = createFakeWorld({ deadline: (seconds) => AbortSignal.timeout(seconds * 10) });
    const { codeOf } = await open({}, world);
    const token = await tokenOf();
    expect(await codeOf(token)).toBe("let in");
    const asked: string[] = [];
    for (const each of [keysAt, metadataAt])
      world.answers.set(each, (url) => {
        asked.push(url);
        return new Promise<Response>(() => undefined);
      });
    // Ahead of its time it is asked for in the background.
    world.now += 3000;
    const begun = performance.now();
    for (let count = 0; count < 50; count += 1) expect(await codeOf(token)).toBe("let in");
    expect(asked.sort()).toEqual([metadataAt, keysAt].sort());
    await new Promise((resolve) => setTimeout(resolve, 150));
    // Grown old, and still nobody answers: what failed is not waited for.
    world.now += 1000;
    for (let count = 0; count < 50; count += 1) expect(await codeOf(await tokenOf())).toBe("let in");
    expect(performance.now() - begun).toBeLessThan(3000);
  });

  it("are known by what they are: made-up key IDs void nothing that was verified", async () => {
    const { world, codeOf, checks } = await open();
    const token = await tokenOf();
    expect(await codeOf(token)).toBe("let in");
    const before = world.requests.length;
    for (let round = 0; round < 10; round += 1) {
      world.now += 6;
      expect(await codeOf(await tokenOf(createTestKey("ES256", `invented-${round}`)))).toBe(
        "guard.key-unknown",
      );
      expect(await codeOf(token)).toBe("let in");
    }
    expect([checks(), world.requests.length - before]).toEqual([1, 10]);
    // The same ID for another key is another key.
    const other = createTestKey("ES256", "first");
    world.answers.set(keysAt, () => Response.json({ keys: [other.publicJwk] }));
    world.now += 6;
    await codeOf(await tokenOf(second));
    expect(await codeOf(token)).toBe("guard.signature-mismatch");
  });
});

it.each([
  [Infinity, 1],
  [3600, 4],
])("what counts for %s s is loaded %s times in two and a half hours", async (freshSeconds, times) => {
  const world = createFakeWorld();
  let count = 0;
  const load = () => Promise.resolve({ value: (count += 1), freshSeconds });
  const kept = new KeptFresh<number>(world.platform, load, () => undefined);
  for (let minute = 0; minute < 150; minute += 1) {
    await kept.get();
    await nothingUnderway();
    world.now += 60;
  }
  expect([count, kept.latest]).toEqual([times, times]);
});

describe("metadata", () => {
  it("is renewed by a guard: keys and introspection are asked for where they are now", async () => {
    const introspection_endpoint = `${issuer}/introspect`;
    const world = createFakeWorld();
    const move = (to: string) => {
      world.answers.set(metadataAt, () =>
        Response.json({
          ...metadata,
          jwks_uri: `${issuer}${to}/keys`,
          introspection_endpoint: `${introspection_endpoint}${to}`,
        }),
      );
      world.answers.set(`${issuer}${to}/keys`, () => Response.json({ keys: [second.publicJwk] }));
      world.answers.set(`${introspection_endpoint}${to}`, () =>
        Response.json({
          active: true,
          aud: audience,
          scope: "tides.read",
          client_id: "ferrywell",
          sub: "rower-7",
        }),
      );
    };
    move("");
    const client = { clientId: "tidebook", clientSecret: "only-for-tests" };
    const { codeOf } = await open({ introspection: true, client }, world);
    expect(await codeOf("opaque")).toBe("let in");
    move("/moved");
    world.answers.delete(introspection_endpoint);
    world.now += 3601;
    await codeOf("opaque");
    await nothingUnderway();
    world.now += 11;
    expect([await codeOf("opaque"), await codeOf(await tokenOf(second))]).toEqual(["let in", "let in"]);
  });

  it("is renewed for signing in: people are sent where the provider is now", async () => {
    const world = createFakeWorld();
    world.answers.set(metadataAt, () => Response.json(metadata));
    const signIn = await createSignIn({
      origin: "https://ferrywell.example",
      keys: sealingKey,
      providers: {
        quayside: { issuer, clientId: "ferrywell", clientSecret: "only-for-tests", scope: "openid" },
      },
      platform: world.platform,
      onProblem: () => undefined,
      store: await openSqliteStore(":memory:"),
    });
    const leadsTo = async () => {
      const answer = await signIn.handle(new Request("https://ferrywell.example/sign-in/to/quayside"));
      return new URL(answer!.headers.get("location")!).pathname;
    };
    expect(await leadsTo()).toBe("/authorize");
    world.answers.set(metadataAt, () =>
      Response.json({ ...metadata, authorization_endpoint: `${issuer}/moved` }),
    );
    world.now += 3500;
    await leadsTo();
    await nothingUnderway();
    expect(await leadsTo()).toBe("/moved");
    // An hour later what comes has mistakes, and what is at hand is kept for a day.
    world.answers.set(metadataAt, () => Response.json({ issuer }));
    for (const [seconds, path] of [
      [3601, "/moved"],
      [86_000, "/moved"],
    ] as const) {
      world.now += seconds;
      expect(await leadsTo()).toBe(path);
    }
  });
});
