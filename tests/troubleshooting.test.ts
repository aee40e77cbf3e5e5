import { readFileSync } from "node:fs";
import { expect, it } from "vitest";
import { start } from "./support/processes.js";

it("planted mistakes are found, each with what is wrong and on which side to change it", async () => {
  const { code, output, errors } = await start("scripts/troubleshooting.mjs", ["--check"]).finished;
  expect(errors).toBe("");
  expect(output.match(/^found: /gm)).toHaveLength(200);
  expect(readFileSync("README.md", "utf8")).toContain("[200 mistakes, ");
  expect(code).toBe(0);
});
