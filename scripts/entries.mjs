// The entries of a package: by which name they are imported, and which source and which output they have.
import { readFileSync } from "node:fs";

/** @param root the package's folder */
export function entriesOf(root) {
  const { name, exports } = JSON.parse(readFileSync(`${root}/package.json`, "utf8"));
  return Object.entries(exports).flatMap(([path, target]) => {
    if (target.default === undefined) return [];
    const output = target.default.replace(/^\.\/bundle\/|\.js$/g, "");
    return [{ name: name + path.slice(1), output, source: `src/${output}.ts` }];
  });
}
