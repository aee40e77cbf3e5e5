import { mkdtempSync, readFileSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { pathToFileURL } from "node:url";
import { gzipSync } from "node:zlib";
import type { RolldownOutput } from "rolldown";
import type * as Core from "tenonsaw";
import type * as Texts from "tenonsaw/texts";
import { build } from "vite";
import { afterAll, describe, expect, it } from "vitest";
import { entriesOf } from "../scripts/entries.mjs";
import { root } from "./support/processes.js";

/** What a page or a server pays for what it imports, in KiB, minified and compressed: at most so much at the start. */
const rows = [
  ["isProblem alone", "page", 'export { isProblem } from "tenonsaw/problem";', 0.5],
  ["following the session", "page", 'export { followSession } from "tenonsaw/browser";', 2],
  [
    "a page whose server keeps the tokens",
    "page",
    'export { createPageSession } from "tenonsaw/browser";',
    6.8,
  ],
  ["a page that is the client", "page", 'export { openPageSignIn } from "tenonsaw/browser";', 6.6],
  ["the worker of such a page", "page", 'export { holdTokens } from "tenonsaw/page-worker";', 16.3],
  ["the parts for React, without React", "page", 'export * from "tenonsaw/react";', 4.2],
  [
    "the core",
    "page",
    'export { beginSignIn, finishSignIn, openProvider, refreshGrant } from "tenonsaw";',
    11.4,
  ],
  [
    "a server, with the memory store",
    "server",
    'export * from "tenonsaw/server"; export * from "tenonsaw/stores/memory";',
    136,
  ],
  ["a guard", "server", 'export { openGuard } from "tenonsaw/guard";', 80.5],
] as const;

const folder = mkdtempSync(join(tmpdir(), "sizes-"));
afterAll(() => rmSync(folder, { recursive: true }));

async function bundle(where: "page" | "server", code: string): Promise<RolldownOutput> {
  const entry = `${root}sizes-entry.js`;
  return (await build({
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
    ...(where === "server" && { ssr: { noExternal: true } }),
    build: {
      ssr: where === "server",
      outDir: folder,
      emptyOutDir: false,
      modulePreload: false,
      minify: true,
      rolldownOptions: { input: entry, preserveEntrySignatures: "strict", external: ["react"] },
    },
  })) as RolldownOutput;
}

describe("what is imported", () => {
  it.each(rows)("%s, on a %s: stays within its size", async (name, where, code, most) => {
    const { output } = await bundle(where, code);
    const chunks = output.filter((each) => each.type === "chunk");
    // What is imported when a rare form is met, such as an encrypted token, is paid for then.
    const start = new Set(chunks.filter(({ isEntry }) => isEntry).map(({ fileName }) => fileName));
    for (const fileName of start)
      chunks.find((each) => each.fileName === fileName)?.imports.forEach((each) => start.add(each));
    const sizeOf = (some: typeof chunks) => gzipSync(some.map((each) => each.code).join("")).length / 1024;
    const size = sizeOf(chunks.filter(({ fileName }) => start.has(fileName)));
    console.log(
      `${name}: ${size.toFixed(1)} of ${most} KiB, ${sizeOf(chunks).toFixed(1)} with all that is rare`,
    );
    expect(size).toBeLessThanOrEqual(most);
  });
});

describe("a server's start", () => {
  it("reads few files: what an import costs is mostly their number", () => {
    const folderOf = pathToFileURL(`${root}packages/tenonsaw/bundle/`);
    const files = new Set([new URL("server/index.js", folderOf).href]);
    for (const file of files) {
      const text = readFileSync(new URL(file), "utf8");
      for (const [, path = ""] of text.matchAll(/^(?:import|export) [^;]*?"(\.[^"]+)";/gm))
        files.add(new URL(path, file).href);
    }
    const kib = [...files].reduce((sum, file) => sum + statSync(new URL(file)).size, 0) / 1024;
    console.log(`tenonsaw/server: ${files.size} files, ${kib.toFixed(0)} KiB`);
    expect(files.size).toBeGreaterThan(5);
    expect(files.size).toBeLessThanOrEqual(35);
    expect(kib).toBeLessThanOrEqual(715);
  });
});

describe.each(["tenonsaw", "practice"])("what npm run build makes of %s", (name) => {
  it("exports of each entry what its source does, and nothing else", async () => {
    const folderOf = `${root}packages/${name}`;
    const entries = entriesOf(folderOf).filter(({ output }) => !output.startsWith("page/"));
    expect(entries.length).toBeGreaterThan(0);
    for (const { output, source } of entries) {
      const [built, written] = (await Promise.all(
        [`bundle/${output}.js`, source].map(
          (path) => import(/* @vite-ignore */ pathToFileURL(join(folderOf, path)).href),
        ),
      )) as [object, object];
      expect(Object.keys(built).sort(), output).toEqual(Object.keys(written).sort());
    }
  });
});

describe("a problem on a page", () => {
  it("has its code and what came, and its texts from tenonsaw/texts", async () => {
    const { output } = await bundle(
      "page",
      'export { openProvider } from "tenonsaw"; export { withTexts } from "tenonsaw/texts";',
    );
    const file = pathToFileURL(join(folder, output[0].fileName)).href;
    const { openProvider, withTexts } = (await import(/* @vite-ignore */ file)) as typeof Core & typeof Texts;
    const settings = { issuer: "https://id.quayside.example", clientId: "" };
    const { problem } = (await openProvider(settings).catch((error: unknown) => error)) as Core.ProblemError;
    expect(problem).toMatchObject({
      code: "provider.settings-refused",
      received: "one mistake",
      expected: "see withTexts of tenonsaw/texts",
      findings: [{ path: "clientId", message: "must not be empty" }],
    });
    expect(withTexts(problem)).toMatchObject({
      title: "The settings cannot be used",
      findings: problem.findings,
    });
    expect(withTexts(problem).expected).not.toBe(problem.expected);
    expect(withTexts({ ...problem, expected: "sharper" }).expected).toBe("sharper");
  });
});
