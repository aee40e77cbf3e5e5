import { beforeEach, describe, expect, it } from "vitest";
import {
  createFakeWorld,
  createTestKey,
  problemOf,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import { rfcKeySets } from "../../../../tests/support/rfc-vectors.js";
import { publicKeySet } from "../provider/index.js";
import { KeySet } from "./key-set.js";

const url = "https://id.quayside.example/keys";
const [first, second] = [createTestKey("ES256", "first"), createTestKey("ES256", "second")];
const header = (kid?: string) => ({ alg: "ES256", ...(kid !== undefined && { kid }) });

let world: FakeWorld;
let keys: KeySet;
beforeEach(() => {
  world = createFakeWorld();
  world.answers.set(url, Response.json({ keys: [first.publicJwk] }));
  keys = new KeySet(
    { platform: world.platform, trace: (event) => world.events.push(event) },
    { keys: url, timeoutSeconds: 30 },
  );
});
const publish = (...published: readonly unknown[]) =>
  world.answers.set(url, Response.json({ keys: published }));
const nothingUnderway = () => new Promise((resolve) => setTimeout(resolve, 0));
const find = async (kid?: string) => keys.find(header(kid), "ES256");

describe("KeySet", () => {
  it("is fetched once for any number of tokens that come together", async () => {
    await Promise.all(Array.from({ length: 50 }, () => find("first")));
    await find("first");
    expect(world.requests).toHaveLength(1);
  });

  it("is fetched again for a key ID it does not know, and finds the new key at once", async () => {
    await find("first");
    publish(first.publicJwk, second.publicJwk);
    await Promise.all(Array.from({ length: 20 }, () => find("second")));
    expect(world.requests).toHaveLength(2);
  });

  it("answers a flood of invented key IDs with one request per cool-down", async () => {
    await find("first");
    for (let round = 0; round < 200; round += 1) {
      expect((await problemOf(() => find(`invented-${round}`))).code).toBe("jose.key-unknown");
    }
    expect(world.requests).toHaveLength(2);
    world.now += 6;
    await problemOf(() => find("invented"));
    expect(world.requests).toHaveLength(3);
  });

  it("is fetched again when it has grown old, and drops the keys that went", async () => {
    await find("first");
    publish(second.publicJwk);
    world.now += 3601;
    expect((await problemOf(() => find("first"))).code).toBe("jose.key-unknown");
    await find("second");
  });

  it("keeps the keys at hand while the set cannot be reached", async () => {
    await find("first");
    world.answers.set(url, new TypeError("down"));
    world.now += 3601;
    expect((await find("first")).algorithm).toBe("ES256");
    expect((await problemOf(() => find("second"))).code).toBe("jose.key-unknown");
  });

  it("tells why when there never was a set, and tries again for the next token", async () => {
    world.answers.set(url, new TypeError("down"));
    expect((await problemOf(() => find("first"))).code).toBe("platform.unreachable");
    publish(first.publicJwk);
    // Not at once: whoever does not answer is left alone for a moment.
    expect((await problemOf(() => find("first"))).code).toBe("platform.unreachable");
    world.now += 6;
    await find("first");
  });

  it("needs no key ID while one key fits, and refuses to guess between two", async () => {
    await find();
    publish(first.publicJwk, second.publicJwk);
    world.now += 3601;
    const { code, received } = await problemOf(() => find());
    expect([code, received]).toEqual(["jose.key-unknown", "key ID absent, ES256: 2 of 2 published keys fit"]);
  });

  it("passes over keys it cannot use beside one it can", async () => {
    publish(
      { kty: "AKP", kid: "first" },
      null,
      "key",
      { kid: 7 },
      { ...first.publicJwk, kid: 7 },
      { ...first.publicJwk, use: ["sig"] },
      { ...first.publicJwk, key_ops: [7] },
      { kty: "RSA", kid: "first", use: "enc" },
      first.publicJwk,
    );
    await find("first");
    // To a token without key ID there is one key, not several.
    expect((await find()).algorithm).toBe("ES256");
  });

  it.each([
    ["a status other than 200", new Response("", { status: 404 })],
    ["an object without keys", Response.json({})],
    ["keys that are no list", Response.json({ keys: {} })],
  ])("refuses %s", async (_, answer) => {
    world.answers.set(url, answer);
    expect((await problemOf(() => find("first"))).code).toBe("jose.key-set-refused");
  });
});

describe("how long a key set is kept", () => {
  it.each([
    ["max-age=7200", 7200],
    ['public, max-age="120", must-revalidate', 120],
    ["MAX-AGE=600", 600],
    ["max-age=5", 60],
    ["no-store", 60],
    ["no-cache, max-age=9000", 60],
    ["max-age=31536000", 86_400],
    ["max-age=-1", 3600],
    ["s-maxage=10, x-max-age=7", 3600],
    ["public", 3600],
  ])("follows %s within a minute and a day", async (control, seconds) => {
    const keep = { headers: { "cache-control": control } };
    world.answers.set(url, Response.json({ keys: [first.publicJwk] }, keep));
    await find("first");
    // In the last fifth it is asked for ahead, and nobody waits for it.
    world.now += seconds * 0.79;
    await find("first");
    await nothingUnderway();
    expect(world.requests).toHaveLength(1);
    publish(second.publicJwk);
    world.now += seconds * 0.21;
    await find("first");
    await nothingUnderway();
    expect(world.requests).toHaveLength(2);
    expect((await problemOf(() => find("first"))).code).toBe("jose.key-unknown");
  });
});

it.each<[string, readonly object[], object, string | undefined]>([
  ["none is published", [], header("first"), "none-published"],
  [
    "those that are published have no name",
    [{ ...first.publicJwk, kid: undefined }],
    header("first"),
    "keys-nameless",
  ],
  ["the token names none of two", [first.publicJwk, second.publicJwk], header(), "token-nameless"],
  [
    "the one that it names is for encryption",
    [{ ...first.publicJwk, use: "enc" }],
    header("first"),
    "other-algorithm",
  ],
  ["two have the name", [first.publicJwk, { ...second.publicJwk, kid: "first" }], header("first"), "twice"],
  ["it is not there yet", [second.publicJwk], header("first"), undefined],
  ["it is none", [{ ...first.publicJwk, use: 7 }, second.publicJwk], header("first"), "unreadable"],
  ["another is none", [{ ...second.publicJwk, use: 7 }], header("first"), "none-published"],
])("says why no key fits: %s", async (_, published, named, because) => {
  publish(...published);
  const problem = await problemOf(() => keys.find(named as ReturnType<typeof header>, "ES256"));
  expect([problem.code, problem.because]).toEqual(["jose.key-unknown", because]);
  if (because === "unreadable") expect(problem.received).toContain("one is no key: use is 7");
  if (because === "other-algorithm") expect(problem.received).toContain('that ID has kty "EC", crv "P-256"');
});

it("says by how much the provider's clock is ahead, where its answer does", async () => {
  const at = (date?: string) =>
    world.answers.set(url, Response.json({ keys: [first.publicJwk] }, { headers: date ? { date } : {} }));
  at(new Date((world.now + 90) * 1000).toUTCString());
  await find("first");
  expect(keys.clockAhead).toBe(90);
  world.now += 4000;
  at();
  await find("first");
  expect(keys.clockAhead).toBeUndefined();
});

it("says of keys in the settings that they are there", async () => {
  const given = new KeySet({ platform: world.platform }, { keys: [second.publicJwk], timeoutSeconds: 10 });
  const problem = await problemOf(async () => given.find(header("first"), "ES256"));
  expect([problem.code, problem.because]).toEqual(["jose.key-unknown", "given"]);
});

it("takes a page for no key set, and says that it is one", async () => {
  world.answers.set(url, new Response("<title>Log in", { headers: { "content-type": "text/html" } }));
  expect(await problemOf(() => find("first"))).toMatchObject({
    code: "jose.key-set-refused",
    received: expect.stringContaining("text/html") as string,
  });
  world.now += 10;
  world.answers.set(url, new Response('{"keys":[],"keys":[]}'));
  expect((await problemOf(() => find("first"))).code).toBe("jose.duplicate-member");
  world.now += 10;
  world.answers.set(url, Response.json({ message: "Not for you" }, { status: 403 }));
  expect((await problemOf(() => find("first"))).received).toContain('which says message "Not for you"');
});

describe("the key sets of RFC 7517", () => {
  it("A.1: offer the key that signs, and not the one that encrypts", async () => {
    world.answers.set(url, Response.json(rfcKeySets.publicKeys));
    const rsa = await keys.find({ alg: "RS256", kid: "2011-04-29" }, "RS256");
    expect([rsa.algorithm, rsa.use]).toEqual(["RS256", "verify"]);
    expect((await problemOf(() => keys.find({ alg: "ES256", kid: "1" }, "ES256"))).code).toBe(
      "jose.key-unknown",
    );
    expect((await problemOf(() => keys.find({ alg: "PS256" }, "PS256"))).code).toBe("jose.key-unknown");
  });

  it("A.2: with private parts are read as the public keys of A.1", () => {
    expect(publicKeySet(rfcKeySets.privateKeys.keys)).toEqual(rfcKeySets.publicKeys);
  });
});
