import { fileURLToPath } from "node:url";
import { defineConfig } from "vitest/config";
import { entriesOf, innerEntriesOf } from "./scripts/entries.mjs";

/** Tests meet the packages under their public names, from the sources rather than from a build. */
function sourcesOf(folder: string) {
  const root = fileURLToPath(new URL(`packages/${folder}/`, import.meta.url));
  const inner = innerEntriesOf(root).filter(({ condition }) => condition === "default");
  return [...entriesOf(root), ...inner].map(({ name, source }) => ({
    find: new RegExp(`^${name}$`),
    replacement: root + source,
  }));
}

export default defineConfig({
  resolve: { alias: [...sourcesOf("tenonsaw"), ...sourcesOf("practice")] },
  test: {
    include: ["packages/*/src/**/*.test.ts", "tests/**/*.test.ts"],
    // No test is about how fast this machine is: these are for what never comes, on a machine that is busy with other things.
    testTimeout: 300_000,
    hookTimeout: 300_000,
    expect: { poll: { timeout: 60_000 } },
    // Files share two cores; what is measured in seconds of waiting gains from running side by side.
    maxWorkers: 2,
    // What all files import is read once by each worker: no test leaves anything behind in a module.
    isolate: false,
  },
});
