import { gzipSync } from "node:zlib";
import type { RolldownOutput } from "rolldown";
import { build } from "vite";
import { describe, expect, it } from "vitest";
import { root } from "./support/processes.js";

/** What a page or a server pays for what it imports, in KiB, minified and compressed: at most so much. */
const rows = [
  ["isProblem alone", 'export { isProblem } from "tenonsaw/problem";', 0.5],
  ["following the session", 'export { followSession } from "tenonsaw/browser";', 1],
  [
    "the core",
    'export { beginSignIn, finishSignIn, openProvider, refreshGrant } from "tenonsaw";',
    // Two thirds of it are the texts of problems, the cache and the validator.
    44,
  ],
  [
    "a server, with the memory store",
    'export * from "tenonsaw/server"; export * from "tenonsaw/stores/memory";',
    86,
  ],
] as const;

describe("what is imported", () => {
  it.each(rows)("%s: stays within its size", async (name, code, most) => {
    const entry = `${root}sizes-entry.js`;
    const { output } = (await build({
      configFile: false,
      logLevel: "silent",
      root,
      plugins: [
        {
          name: "entry",
          resolveId: (id) => (id === entry ? entry : undefined),
          load: (id) => (id === entry ? code : undefined),
        },
      ],
      build: {
        write: false,
        minify: true,
        rolldownOptions: { input: entry, preserveEntrySignatures: "strict" },
      },
    })) as RolldownOutput;
    const text = output.map((each) => (each.type === "chunk" ? each.code : "")).join("");
    const size = gzipSync(text).length / 1024;
    console.log(`${name}: ${size.toFixed(1)} of ${most} KiB`);
    expect(size).toBeLessThanOrEqual(most);
  });
});
