// Part of npm run build: one file for each entry of a package, and what they share, with everything in it that is not a
// store's driver or a framework; and the same of its types, from dist/. Node reads a few files instead of two hundred,
// nothing else has to be installed, and no type of another package shows. THIRD-PARTY.md says what is in it, and under
// which licence.
import { copyFileSync, readFileSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { relative, resolve } from "node:path";
import { rolldown } from "rolldown";
import { dts } from "rolldown-plugin-dts";
import { build } from "vite";
import { entriesOf, innerEntriesOf, pageEntriesOf } from "./entries.mjs";

const outside = ["libsql", "pg", "redis", "fastify", "hono", "react"];

const library = "packages/tenonsaw";
rmSync(`${library}/bundle`, { recursive: true, force: true });
const practice = "packages/practice";
const inLibrary = await bundle(library, sourcesOf(library), "bundle", outside);
const inPages = await bundlePages(library);
const inPractice = await bundle(practice, sourcesOf(practice), "bundle", [/^tenonsaw(\/|$)/]);
const inCommand = await bundle("packages/cli", { main: "src/main.ts" }, `../../${library}/bundle/cli`, [
  /^tenonsaw(\/|$)/,
  ...outside.filter((name) => name !== "hono"),
]);
writeThirdParty(practice, inPractice);
// The command brings the practice provider along.
writeThirdParty(library, [...inLibrary, ...inPages, ...inPractice, ...inCommand]);
for (const root of [library, practice]) {
  await bundleTypes(root);
  copyFileSync("LICENSE", `${root}/LICENSE`);
}
// A package's page shows no pictures and no other pages of the repository.
const readme = readFileSync("README.md", "utf8")
  .replace(/\n(?:\||<!-- prettier-ignore)[^\n]*(?=\n)/g, "")
  .replace(/\]\((?!https?:)[^)]*\)/g, "]");
writeFileSync(`${library}/README.md`, readme.replace(/\[([^\]]*)\](?!\()/g, "$1"));

/** The sources of a package's entries for servers, by their output. */
function sourcesOf(root) {
  const entries = [...entriesOf(root), ...innerEntriesOf(root)].filter(({ isForPages }) => !isForPages);
  return Object.fromEntries(entries.map(({ output, source }) => [output, source]));
}

/**
 * What is for pages alone, a file for each module: a page's bundler takes of it what the page needs when it begins, and keeps
 * the rest until it is needed.
 *
 * @returns the folders of what is in it and not ours
 */
async function bundlePages(root) {
  const entries = pageEntriesOf(root);
  const own = JSON.parse(readFileSync(`${root}/package.json`, "utf8")).name;
  const inner = innerEntriesOf(root).filter(({ condition }) => condition === "browser");
  const [{ output }] = await build({
    configFile: false,
    logLevel: "warn",
    root,
    // The texts are the same file for the page and for what it takes from here.
    plugins: [
      {
        name: "texts",
        enforce: "pre",
        resolveId: (id) => (/problem\/texts\.js$/.test(id) ? { id: `${own}/texts`, external: true } : null),
      },
    ],
    resolve: { alias: Object.fromEntries(inner.map(({ name, source }) => [name, resolve(root, source)])) },
    build: {
      target: "es2022",
      outDir: "bundle/page",
      emptyOutDir: false,
      minify: false,
      modulePreload: false,
      lib: { entry: entries.map(({ source }) => resolve(root, source)), formats: ["es"] },
      rolldownOptions: {
        external: ["react"],
        output: {
          preserveModules: true,
          preserveModulesRoot: resolve(root, "src"),
          // A folder of that name is never packed.
          entryFileNames: ({ name }) => `${name.replaceAll("node_modules", "outside")}.js`,
        },
      },
    },
  });
  return foldersOf(output);
}

/** @returns the folders of what is in it and not ours */
async function bundle(root, entries, outDir, external) {
  const { output } = await build({
    configFile: false,
    logLevel: "warn",
    root,
    ssr: { noExternal: true, external: external.filter((each) => typeof each === "string") },
    build: {
      ssr: true,
      target: "node20",
      outDir,
      emptyOutDir: true,
      minify: false,
      rolldownOptions: {
        external: [...external, ...innerEntriesOf(library).map(({ name }) => name)],
        input: Object.fromEntries(Object.entries(entries).map(([name, path]) => [name, `${root}/${path}`])),
        // What an entry exports is what its source does, and nothing that the others take from it.
        preserveEntrySignatures: "strict",
        output: { chunkFileNames: "shared/[name]-[hash].js" },
      },
    },
  });
  return foldersOf(output);
}

/** The folders of packages in `node_modules` that something was bundled of. */
function foldersOf(output) {
  const folders = output
    .flatMap(({ moduleIds = [] }) => moduleIds)
    .flatMap((id) => /^(.*\/node_modules\/(?:@[^/]+\/)?[^/]+)\//.exec(id.replace(/^\0/, ""))?.[1] ?? []);
  return [...new Set(folders)];
}

async function bundleTypes(root) {
  const input = Object.fromEntries(
    entriesOf(root).map(({ output, source }) => [
      output,
      `${root}/${source.replace(/^src(.*)\.ts$/, "dist$1.d.ts")}`,
    ]),
  );
  const types = await rolldown({
    input,
    plugins: [dts({ dtsInput: true })],
    external: [/^node:/, /^tenonsaw(\/|$)/, ...outside],
  });
  await types.write({ dir: `${root}/bundle`, format: "es", chunkFileNames: "shared/[name].ts" });
}

function writeThirdParty(root, folders) {
  const parts = [...new Set(folders)]
    .map((folder) => relative(process.cwd(), folder))
    .sort()
    .map((folder) => {
      const { name, version, license } = JSON.parse(readFileSync(`${folder}/package.json`, "utf8"));
      const file = readdirSync(folder).find((each) => /^licen[cs]e/i.test(each));
      const text =
        file === undefined ? `Licence: ${license}` : readFileSync(`${folder}/${file}`, "utf8").trim();
      return `## ${name} ${version} (${license})\n\n${text.replace(/^/gm, "    ")}\n`;
    });
  const page = `# What is in this package and not ours\n\n${parts.join("\n")}`;
  writeFileSync(`${root}/THIRD-PARTY.md`, page);
}
