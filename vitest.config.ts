import { fileURLToPath } from "node:url";
import { defineConfig } from "vitest/config";
import { BaseSequencer, type TestSpecification } from "vitest/node";
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

/** What takes longest, by what a file's name has in it: begun first, or the last of them keeps one worker busy and three waiting. */
const longest = [
  "tests/demo.",
  "tests/refresh-processes-redis.",
  "tests/cli-settings.",
  "tests/client-page.",
  "tests/troubleshooting.",
  "tests/rehearsals-browser.",
  "tests/refresh-processes-sqlite.",
  "tests/launch-browser.",
  "tests/browser.",
  "tests/refresh-processes-postgres.",
  "tests/packed.",
  "tests/cli.",
  "stores/store.",
  "tests/store-faults.",
  "tests/served-page.",
  "tests/page-parts.",
  "tests/first-app.",
];

class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const rank = ({ moduleId }: TestSpecification) => {
      const at = longest.findIndex((name) => moduleId.includes(name));
      return at < 0 ? longest.length : at;
    };
    return (await super.sort(files)).toSorted((left, right) => rank(left) - rank(right));
  }
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
    sequence: { sequencer: LongestFirst },
    // What all files import is read once by each worker: no test leaves anything behind in a module.
    isolate: false,
  },
});
