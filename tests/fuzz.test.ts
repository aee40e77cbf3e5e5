import { describe, expect, it } from "vitest";
import { start } from "./support/processes.js";

describe("npm run fuzz", () => {
  it("ends every input in an accepted value or a catalogued problem, the same ones for the same seed", async () => {
    const run = () => start("scripts/fuzz.mjs", ["--count", "12000", "--seed", "2026"]).finished;
    const [first, second] = await Promise.all([run(), run()]);
    expect([first.code, first.errors]).toEqual([0, ""]);
    expect(second.output).toBe(first.output);
    const counts = [...first.output.matchAll(/(\d+) accepted, (\d+) refused/g)].map(([, a, b]) => [
      Number(a),
      Number(b),
    ]);
    expect(counts).toHaveLength(6);
    // A mutation that is never accepted, or never refused, tests nothing.
    for (const [accepted, refused] of counts)
      expect(Math.min(accepted ?? 0, refused ?? 0)).toBeGreaterThan(10);
    expect(counts.flat().reduce((sum, each) => sum + each, 0)).toBe(12_000);
  });
});
