// What imports what in packages/tenonsaw/src: the folders in the order of travel, drawn as docs/structure.svg by npm run
// docs; and the circles of files that import each other, of which there are to be none.
import { readFileSync } from "node:fs";
import { dirname, join, relative } from "node:path";
import { globSync } from "tinyglobby";

/** Which files each file imports, types included: by path from the source folder. */
export function readImports(source = "packages/tenonsaw/src") {
  const files = globSync(`${source}/**/*.ts`, { ignore: "**/*.test.ts" }).sort();
  return new Map(
    files.map((file) => {
      const text = readFileSync(file, "utf8");
      const found = [...text.matchAll(/(?:from|import)\s*\(?\s*"(\.[^"]+)\.js"/g)].map(([, path]) =>
        relative(source, join(dirname(file), `${path}.ts`)),
      );
      return [relative(source, file), [...new Set(found)]];
    }),
  );
}

/** Circles of files, each once, from the file that comes first. */
export function circlesOf(imports) {
  const circles = new Map();
  const done = new Set();
  const walk = (file, path) => {
    const at = path.indexOf(file);
    if (at >= 0) {
      const circle = path.slice(at);
      circles.set([...circle].sort().join(), circle);
      return;
    }
    if (done.has(file)) return;
    for (const next of imports.get(file) ?? []) walk(next, [...path, file]);
    done.add(file);
  };
  for (const file of imports.keys()) walk(file, []);
  return [...circles.values()];
}

/** What is no station: an edge. */
const edges = ["server", "stores", "browser"];

/** The folder that a file stands in, a room of the server by its own name; the files of the package's own entry stand in none. */
function folderOf(file) {
  const [first, ...rest] = dirname(file).split("/");
  return first === "." ? undefined : first === "server" ? [first, ...rest].join("/") : first;
}

/** Which folders each folder imports, without those that follow from the others. */
function shortestImports(imports) {
  const folders = new Set([...imports.keys()].map(folderOf).filter((folder) => folder !== undefined));
  const all = new Map([...folders].map((folder) => [folder, new Set()]));
  for (const [file, targets] of imports)
    for (const target of targets) {
      const [from, to] = [folderOf(file), folderOf(target)];
      if (from !== undefined && to !== undefined && from !== to) all.get(from).add(to);
    }
  const reached = (from, to) => [...all.get(from)].some((next) => next === to || reached(next, to));
  return new Map(
    [...all].map(([from, targets]) => [
      from,
      [...targets].filter((to) => ![...targets].some((other) => other !== to && reached(other, to))),
    ]),
  );
}

/** The folders from the first station down, an arrow to each folder that another one imports and does not reach otherwise. */
export function structurePicture(imports) {
  const [width, step, boxWidth, boxHeight] = [900, 74, 170, 38];
  const shortest = shortestImports(imports);
  // A folder stands one row below the lowest of those it imports.
  const rowOf = (name) => 1 + Math.max(-1, ...shortest.get(name).map(rowOf));
  const rows = [];
  for (const name of shortest.keys()) (rows[rowOf(name)] ??= []).push(name);
  const places = new Map(
    rows.flatMap((row, index) =>
      row.map((name, column) => [
        name,
        {
          name,
          kind: edges.includes(name.split("/")[0]) ? "edge" : "station",
          x: (width / (row.length + 1)) * (column + 1),
          y: 40 + index * step,
        },
      ]),
    ),
  );
  const arrows = [...shortest].flatMap(([from, targets]) =>
    targets.map((to) => {
      const [a, b] = [places.get(from), places.get(to)];
      const [y1, y2] = [a.y - boxHeight / 2, b.y + boxHeight / 2 + 5];
      // What passes other rows goes around their boxes.
      const isFar = a.y - b.y > step;
      const side = a.x === b.x ? 150 : 0;
      const bend = isFar ? `C ${a.x + side} ${y1 - 40}, ${b.x + side} ${y2 + 40},` : `L`;
      return `<path d="M ${a.x} ${y1} ${bend} ${b.x} ${y2}" marker-end="url(#to)"/>`;
    }),
  );
  const boxes = [...places.values()].map(
    ({ name, kind, x, y }) =>
      `<rect x="${x - boxWidth / 2}" y="${y - boxHeight / 2}" width="${boxWidth}" height="${boxHeight}" rx="6" class="${kind}"/>` +
      `<text x="${x}" y="${y + 5}">${name}/</text>`,
  );
  const height = 40 + rows.length * step - step / 2;
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 ${width} ${height}" width="${width}" height="${height}" role="img" aria-label="What imports what: stations above, edges below">
<style>
svg { background: #fff; font: 15px ui-sans-serif, system-ui, sans-serif; }
text { text-anchor: middle; fill: #1d2b36; }
rect { stroke: #31546b; fill: #e6f0f5; }
rect.edge { stroke: #7a5b1f; fill: #f8efdc; }
path { fill: none; stroke: #6b7f8c; stroke-width: 1.4; }
</style>
<defs><marker id="to" viewBox="0 0 10 10" refX="9" refY="5" markerWidth="8" markerHeight="8" orient="auto"><polygon points="0,1 10,5 0,9" fill="#6b7f8c"/></marker></defs>
${arrows.join("\n")}
${boxes.join("\n")}
</svg>
`;
}
