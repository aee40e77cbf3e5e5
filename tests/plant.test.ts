import { describe, expect, it } from "vitest";
import { start } from "./support/processes.js";

describe("npm run plant", () => {
  it("finds each mistake that it draws named, in every area, and draws the same ones for the same seed", async () => {
    const run = (...more: string[]) => start("scripts/plant.mjs", more).finished;
    const [first, again, other] = await Promise.all([
      run("--count", "3000", "--seed", "3"),
      run("--count", "3000", "--seed", "3"),
      run("--count", "400", "--seed", "4", "--show"),
    ]);
    expect([first.code, first.errors]).toEqual([0, ""]);
    expect(first.output).toContain("3000 mistakes, seed 3, 0 not named");
    expect(again.output).toBe(first.output);
    // An area in which nothing is refused, or nothing let through, tests nothing.
    const rows = [...first.output.matchAll(/^(\w+) +(\d+) named, +(\d+) let through$/gm)];
    expect(rows.map(([, area]) => area)).toEqual(["settings", "provider", "guard"]);
    for (const [, area, named, passed] of rows) {
      expect(Number(named), area).toBeGreaterThan(400);
      expect(Number(passed), area).toBeGreaterThan(40);
    }
    expect(other.output).toMatch(/^passed: \w+ \S+, /m);
    expect(other.output).toMatch(/^named: \w+ \S+, [^]*?\(\w+\.[\w-]+\)/m);
  });

  it("takes no count that is none, and no area that there is not", async () => {
    for (const odd of [
      ["--count", "many"],
      ["--area", "moon"],
    ])
      expect((await start("scripts/plant.mjs", odd).finished).code).toBe(2);
  });
});
