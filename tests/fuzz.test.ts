import { describe, expect, it } from "vitest";
import { start } from "./support/processes.js";

describe("npm run fuzz", () => {
  it("ends every input in an accepted value or a catalogued problem, the same ones for the same seed", async () => {
    const run = (count: number) => start("scripts/fuzz.mjs", ["--count", `${count}`, "--seed", "3"]).finished;
    const [first, second] = await Promise.all([run(12_000), run(1000)]);
    expect([first.code, first.errors]).toEqual([0, ""]);
    expect(first.output).toContain("12000 inputs, seed 3, 0 surprises");
    expect((await run(1000)).output).toBe(second.output);
    const rows = [...first.output.matchAll(/(\w+) +(\d+) accepted, (\d+) refused/g)];
    const counts = rows.map(([, name = "", a, b]) => ({ name, accepted: Number(a), refused: Number(b) }));
    expect(counts).toHaveLength(32);
    // A mutation that is never accepted, or never refused, tests nothing; some take whatever comes.
    const takeAll = ["signatureBase", "wordingOf", "challenges", "xForwarded", "launchScopes"];
    for (const { name, accepted, refused } of counts) {
      expect([name, accepted]).toEqual([name, expect.any(Number)]);
      expect(accepted, name).toBeGreaterThan(0);
      if (!takeAll.includes(name)) expect(refused, name).toBeGreaterThan(4);
    }
    expect(counts.reduce((sum, each) => sum + each.accepted + each.refused, 0)).toBe(12_000);
  });
});
