// The entries of a package: by which name they are imported, and which source and which output they have.
import { readFileSync } from "node:fs";

/** @param root the package's folder */
export function entriesOf(root) {
  const { name, exports } = JSON.parse(readFileSync(`${root}/package.json`, "utf8"));
  return Object.entries(exports).flatMap(([path, target]) =>
    target.default === undefined ? [] : [entry(name + path.slice(1), target.default)],
  );
}

/** Those that a page's bundler takes: for pages alone, or in the place of what servers take. */
export function pageEntriesOf(root) {
  const { name, exports } = JSON.parse(readFileSync(`${root}/package.json`, "utf8"));
  return Object.entries(exports)
    .map(([path, target]) => entry(name + path.slice(1), target.browser ?? target.default ?? ""))
    .filter(({ isForPages }) => isForPages);
}

/** What it imports from itself by name: other files on a page than elsewhere. */
export function innerEntriesOf(root) {
  const { imports = {} } = JSON.parse(readFileSync(`${root}/package.json`, "utf8"));
  return Object.entries(imports).flatMap(([name, targets]) =>
    Object.entries(targets).map(([condition, target]) => ({ condition, ...entry(name, target) })),
  );
}

function entry(name, target) {
  const output = target.replace(/^\.\/bundle\/|\.js$/g, "");
  const isForPages = output.startsWith("page/");
  return { name, output, isForPages, source: `src/${output.replace("page/", "")}.ts` };
}
