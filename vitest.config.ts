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
    testTimeout: 900_000,
    hookTimeout: 900_000,
    expect: { poll: { timeout: 60_000 } },
    // Twice as many as there are cores at least: browsers and servers are waited for half of the time.
    maxWorkers: 4,
    // What all files import is read once by each worker: no test leaves anything behind in a module.
    isolate: false,
  },
});
