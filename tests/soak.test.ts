import { mkdtemp, readFile, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { parse } from "node-html-parser";
import { expect, it } from "vitest";
import { start } from "./support/processes.js";

it("puts an app under load for as long as it is told, and ends with counts that balance and a plot", async () => {
  const out = await mkdtemp(join(tmpdir(), "tenonsaw-soak-"));
  const args = ["--minutes", "0.2", "--token-seconds", "8", "--out", out];
  const { code, output, errors } = await start("soak/soak.mjs", args).finished;
  expect([code, errors]).toEqual([0, expect.not.stringContaining("Error")]);
  const text = await readFile(join(out, "soak.md"), "utf8");
  for (const line of output.split("\n").filter((each) => each.includes("sign-ins,")))
    expect(text).toContain(line);

  const [, signIns = 0, refreshes = 0, requests = 0] =
    /\| (\d+) \+ (\d+) = (\d+) +\|/.exec(text)?.map(Number) ?? [];
  expect(signIns).toBeGreaterThan(8);
  expect(signIns + refreshes).toBe(requests);
  const picture = parse(await readFile(join(out, "soak.svg"), "utf8"));
  expect(picture.querySelectorAll("path")).toHaveLength(5);
  expect(picture.textContent).toContain("heap in use");
  await rm(out, { recursive: true });
});
