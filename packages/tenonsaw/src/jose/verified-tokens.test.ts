import { beforeEach, describe, expect, it } from "vitest";
import {
  createFakeWorld,
  createTestKey,
  problemOf,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import type { CryptoEngine } from "../platform/index.js";
import { KeySet } from "./key-set.js";
import { VerifiedTokens } from "./verified-tokens.js";

const url = "https://id.quayside.example/keys";
const [first, second] = [createTestKey("ES256", "first"), createTestKey("ES256", "second")];

let world: FakeWorld;
let checks: number;
let tokens: VerifiedTokens;
beforeEach(() => {
  world = createFakeWorld();
  checks = 0;
  world.answers.set(url, Response.json({ keys: [first.publicJwk] }));
  const { crypto } = world.platform;
  const counting: CryptoEngine = {
    ...crypto,
    verify(key, signature, data) {
      checks += 1;
      return crypto.verify(key, signature, data);
    },
  };
  const tools = { platform: { ...world.platform, crypto: counting } };
  tokens = new VerifiedTokens(tools, new KeySet(tools, { keys: url, timeoutSeconds: 30 }), ["ES256"], 3);
});

describe("VerifiedTokens", () => {
  it("checks a signature once, and answers at once after that", async () => {
    const token = await first.sign({ sub: "qs-10231", realm: { roles: ["member"] } });
    const decoded = await tokens.verify(token);
    expect(tokens.verify(token)).toBe(decoded);
    expect([checks, decoded.payload["sub"]]).toEqual([1, "qs-10231"]);
  });

  it("lets nobody change for others what is remembered", async () => {
    const token = await first.sign({ sub: "qs-10231", realm: { roles: ["member"] } });
    const { payload } = await tokens.verify(token);
    expect(() => Object.assign(payload, { sub: "qs-1" })).toThrow(TypeError);
    expect(() => (payload["realm"] as { roles: string[] }).roles.push("admin")).toThrow(TypeError);
  });

  it("remembers nothing that did not hold", async () => {
    const token = await second.sign({ sub: "qs-10231" });
    expect((await problemOf(() => tokens.verify(token))).code).toBe("jose.key-unknown");
    const forged = `${(await first.sign({ sub: "a" })).slice(0, -4)}AAAA`;
    for (let round = 0; round < 2; round += 1)
      expect((await problemOf(() => tokens.verify(forged))).code).toBe("jose.signature-mismatch");
    expect(checks).toBe(2);
  });

  it("forgets what was verified by a key that is no longer published", async () => {
    const token = await first.sign({ sub: "qs-10231" });
    await tokens.verify(token);
    world.answers.set(url, Response.json({ keys: [second.publicJwk] }));
    world.now += 3601;
    expect((await problemOf(() => tokens.verify(token))).code).toBe("jose.key-unknown");
    expect((await problemOf(() => tokens.verify(token))).code).toBe("jose.key-unknown");
  });

  it("forgets those used longest ago, however many come", async () => {
    const all = await Promise.all([1, 2, 3, 4, 5, 6, 7].map((sub) => first.sign({ sub: String(sub) })));
    for (const token of all) await tokens.verify(token);
    await tokens.verify(all[6]!);
    expect(checks).toBe(7);
    await tokens.verify(all[0]!);
    expect(checks).toBe(8);
  });
});
