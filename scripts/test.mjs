// npm test: readies the machine, builds, runs every test, and ends with one line that counts them.
import { spawnSync } from "node:child_process";
import { mkdirSync, readFileSync, rmSync } from "node:fs";
import { ready } from "./ready.mjs";

const results = ".cache/test-results.json";
mkdirSync(".cache", { recursive: true });
rmSync(results, { force: true });

const env = { ...process.env, ...ready() };
run("tsc", ["node_modules/typescript/bin/tsc", "-b"]);
run("bundle", ["scripts/bundle.mjs"]);
const { status } = spawnSync(
  process.execPath,
  [
    "node_modules/vitest/vitest.mjs",
    "run",
    "--reporter=default",
    "--reporter=json",
    `--outputFile.json=${results}`,
    ...process.argv.slice(2),
  ],
  { stdio: "inherit", env },
);

const { numPassedTests, numFailedTests, numPendingTests, numFailedTestSuites } = JSON.parse(
  readFileSync(results, "utf8"),
);
// A file that does not even load has no failed test of its own, and is a failure all the same.
const failed = numFailedTests === 0 && status !== 0 ? Math.max(1, numFailedTestSuites) : numFailedTests;
console.log(
  `\n${numPassedTests} passed, ${failed} failed${numPendingTests > 0 ? `, ${numPendingTests} skipped` : ""}`,
);
process.exitCode = status === 0 && failed === 0 ? 0 : 1;

function run(name, args) {
  const step = spawnSync(process.execPath, args, { stdio: "inherit", env });
  if (step.status === 0) return;
  console.error(`\n${name} failed\n0 passed, 1 failed`);
  process.exit(1);
}
