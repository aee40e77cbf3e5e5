import { randomBytes } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { problemOf } from "../../../../tests/support/fake-world.js";
import { createTools } from "../trace/index.js";
import { readKeyRing, requireRandomKeys, seal, unseal } from "./key-ring.js";

const tools = createTools();
const [oldKey, newKey] = [1, 2].map((fill) => Buffer.alloc(32, fill).toString("base64url")) as [
  string,
  string,
];
const ring = await readKeyRing(tools, newKey);

describe("key ring", () => {
  it("opens what it sealed, at its own place", async () => {
    await fc.assert(
      fc.asyncProperty(fc.string({ unit: "grapheme" }), async (value) => {
        expect(
          await unseal(
            tools,
            ring,
            "connection/1/access-token",
            await seal(tools, ring, "connection/1/access-token", value),
          ),
        ).toBe(value);
      }),
    );
  });

  it("seals as compact JWE, each time differently", async () => {
    const [first, second] = [await seal(tools, ring, "a", "value"), await seal(tools, ring, "a", "value")];
    expect(first).not.toBe(second);
    const [header = "", key] = first.split(".");
    expect(key).toBe("");
    expect(JSON.parse(Buffer.from(header, "base64url").toString())).toEqual({
      alg: "dir",
      enc: "A256GCM",
      kid: ring.currentKeyId,
      place: "a",
    });
  });

  it("opens nothing at another place, under another header, altered or cut", async () => {
    const sealed = await seal(tools, ring, "connection/1/access-token", "value");
    expect((await problemOf(() => unseal(tools, ring, "connection/2/access-token", sealed))).code).toBe(
      "session.seal-broken",
    );
    const moved = { alg: "dir", enc: "A256GCM", kid: ring.currentKeyId, place: "connection/2/access-token" };
    const reheaded = sealed.replace(/^[^.]*/, Buffer.from(JSON.stringify(moved)).toString("base64url"));
    expect((await problemOf(() => unseal(tools, ring, "connection/2/access-token", reheaded))).code).toBe(
      "session.seal-broken",
    );
    await fc.assert(
      fc.asyncProperty(
        fc.nat(sealed.length - 1),
        fc.constantFrom("A", "a", "0", ".", "_"),
        async (index, letter) => {
          fc.pre(sealed[index] !== letter);
          for (const altered of [
            sealed.slice(0, index),
            sealed.slice(0, index) + letter + sealed.slice(index + 1),
          ]) {
            const { code } = await problemOf(() => unseal(tools, ring, "connection/1/access-token", altered));
            expect(code).toMatch(/^session\.seal-(broken|key-unknown)$/);
          }
        },
      ),
    );
  });

  it("opens with a retired key, seals with the current one, and says when a key is gone", async () => {
    const before = await seal(tools, await readKeyRing(tools, oldKey), "a", "value");
    const both = await readKeyRing(tools, `${newKey}, ${oldKey}`);
    expect(await unseal(tools, both, "a", before)).toBe("value");
    expect(await unseal(tools, ring, "a", await seal(tools, both, "a", "new"))).toBe("new");
    expect((await problemOf(() => unseal(tools, ring, "a", before))).code).toBe("session.seal-key-unknown");
    const empty = { currentKeyId: "", keys: new Map() };
    expect((await problemOf(() => seal(tools, empty, "a", "value"))).code).toBe("session.keys-refused");
  });

  it("says in which other form a key stands there", async () => {
    const bytes = Buffer.from(Array.from({ length: 32 }, (_, index) => 255 - index));
    for (const [text, because] of [
      [`"${newKey}"`, "quotes"],
      [`${newKey} ${oldKey}`, "separated"],
      [`${newKey}\n${oldKey}`, "separated"],
      [bytes.toString("hex"), "hex"],
      [bytes.toString("base64"), "base64"],
      [`${newKey},correct horse`, undefined],
    ] as const) {
      const problem = await problemOf(() => readKeyRing(tools, text));
      expect([problem.code, problem.because]).toEqual(["session.keys-refused", because]);
      expect(problem.received).toMatch(because ? /^key 1: / : /^key 2: /);
    }
  });

  it("takes no key at an origin that others reach which somebody has typed", async () => {
    const both = await readKeyRing(tools, `${randomBytes(32).toString("base64url")},${oldKey}`);
    const { because, received, here } = await problemOf(async () => requireRandomKeys(both));
    expect([because, received]).toEqual(["guessable", "key 2: 1 different bytes"]);
    expect(here).toContain("randomBytes(32)");
    requireRandomKeys(await readKeyRing(tools, randomBytes(32).toString("base64url")));
  });
});
