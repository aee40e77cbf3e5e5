import fc from "fast-check";
import { describe, expect, it, vi } from "vitest";
import { problemOf } from "../../../../tests/support/fake-world.js";
import { parseJsonObject } from "./json.js";

const parse = (text: string) => parseJsonObject(text, "text");

describe("parseJsonObject", () => {
  it("reads what JSON.parse reads, compact or spaced out", () => {
    fc.assert(
      fc.property(fc.dictionary(fc.string(), fc.jsonValue({ maxDepth: 4 })), (value) => {
        const clean: unknown = JSON.parse(JSON.stringify(value));
        expect(parse(JSON.stringify(value))).toEqual(clean);
        expect(parse(JSON.stringify(value, undefined, 2))).toEqual(clean);
      }),
    );
  });

  it("finds a repeated name wherever it is inserted", async () => {
    await fc.assert(
      fc.asyncProperty(fc.string(), fc.jsonValue({ maxDepth: 2 }), async (name, value) => {
        const member = `${JSON.stringify(name)}:${JSON.stringify(value)}`;
        for (const text of [`{${member},${member}}`, `{"outer":[{${member} , ${member}}]}`]) {
          expect((await problemOf(() => parse(text))).code).toBe("jose.duplicate-member");
        }
      }),
    );
  });

  it.each([
    ["the same name spelled with an escape", '{"sub":1,"s\\u0075b":2}', "jose.duplicate-member"],
    ["the same name with space behind it", '{"sub" :1,"sub":2}', "jose.duplicate-member"],
    ["the same name with a line end behind it", '{"sub"\n:1,"sub":2}', "jose.duplicate-member"],
    ["a repeated __proto__", '{"__proto__":1,"__proto__":2}', "jose.duplicate-member"],
    ["no JSON", "{", "jose.not-json"],
    ["an array", "[]", "jose.not-json"],
    ["null", "null", "jose.not-json"],
    ["a text", '"{}"', "jose.not-json"],
    ["nothing", "", "jose.not-json"],
    ["one nesting too many", `${'{"a":'.repeat(33)}1${"}".repeat(33)}`, "jose.not-json"],
    [
      "one nesting too many in a long text",
      `{"b":"${"x".repeat(5000)}","a":${'{"a":'.repeat(32)}1${"}".repeat(33)}`,
      "jose.not-json",
    ],
    ["a long text that breaks off", `{"a":"${"x".repeat(5000)}`, "jose.not-json"],
    ["nesting without end", `{"a":${"[".repeat(50_000)}${"]".repeat(50_000)}}`, "jose.not-json"],
  ])("refuses %s", async (_, text, code) => {
    expect((await problemOf(() => parse(text))).code).toBe(code);
  });

  it("does not even read what is long and nested too deeply", async () => {
    const deep = `{"a":"x","b":${"[".repeat(33)}${"]".repeat(33)},"c":"${"y".repeat(5000)}"}`;
    const read = vi.spyOn(JSON, "parse");
    const { received } = await problemOf(() => parse(deep));
    const count = read.mock.calls.length;
    read.mockRestore();
    expect([received, count]).toEqual([expect.stringContaining("nested deeper than 32"), 0]);
  });

  it("takes a time that grows with the length alone, however often it has been done and compiled", () => {
    const millisecondsFor = (length: number) => {
      const text = '"'.repeat(length);
      let best = Infinity;
      for (let turn = -20; turn < 10; turn += 1) {
        const startedAt = performance.now();
        expect(() => parse(text)).toThrow("jose.not-json");
        if (turn >= 0) best = Math.min(best, performance.now() - startedAt);
      }
      return best;
    };
    // Eight times the length; where each quote costs as much as there is text, it was fifty times the time.
    expect(millisecondsFor(65_536) / millisecondsFor(8192)).toBeLessThan(24);
  });

  it("pollutes no prototype", () => {
    const value = parse('{"__proto__":{"isAdmin":true},"constructor":{"prototype":{"isAdmin":true}}}');
    expect(Object.keys(value)).toEqual(["__proto__", "constructor"]);
    expect(({} as Record<string, unknown>)["isAdmin"]).toBeUndefined();
  });

  it("is not confused by quotes, braces and commas inside texts", () => {
    expect(parse(`${'{"a":'.repeat(32)}1${"}".repeat(32)}`)).toHaveProperty("a");
    // Long, as deep as may be, and with what looks deeper in its texts.
    for (const short of ["{", '\\"{']) {
      const texts = `"b":"${"[".repeat(5000)}","c":"${short}"`;
      expect(parse(`{${texts},"a":${'{"a":'.repeat(31)}1${"}".repeat(32)}`)).toHaveProperty("c");
    }
    expect(parse('{ "a": "{\\"a\\":1,", "b": "\\\\", "c": "}" }')).toEqual({ a: '{"a":1,', b: "\\", c: "}" });
  });
});
