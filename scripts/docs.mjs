// npm run docs: writes what is generated in the documentation. With --check it writes nothing, names what is stale
// and ends with exit code 1 if anything is.
import { readFileSync, writeFileSync } from "node:fs";
import { catalogue } from "../packages/tenonsaw/dist/problem/index.js";

const isCheck = process.argv.includes("--check");
const stale = [];

put("docs/problems.md", problemsPage());
put("README.md", withExamples(readFileSync("README.md", "utf8")));
if (stale.length > 0) {
  console.error(`stale: ${stale.join(", ")}; run: npm run docs`);
  process.exitCode = 1;
}

function put(path, text) {
  const current = readFileSync(path, { encoding: "utf8", flag: "a+" });
  if (current === text) return;
  if (isCheck) stale.push(path);
  else writeFileSync(path, text);
}

function problemsPage() {
  const stations = new Map();
  for (const code of Object.keys(catalogue)) {
    const station = code.slice(0, code.indexOf("."));
    stations.set(station, [...(stations.get(station) ?? []), code]);
  }
  const sections = [...stations].map(
    ([station, codes]) => `## ${station}\n\n${codes.map(entry).join("\n\n")}`,
  );
  return `# Problems

Every failure that can reach you, by the station it comes from. Each problem carries its code, what was expected, what
was received (secrets as fingerprints only), and what to change: in your app ("here") or at the provider.

This page is generated from \`packages/tenonsaw/src/problem/catalogue.ts\` by \`npm run docs\`.

${sections.join("\n\n")}
`;
}

function entry(code) {
  const { title, expected, here, atProvider, section, status } = catalogue[code];
  const rows = [
    ["Expected", expected],
    ["Change here", here],
    ["Change at the provider", atProvider],
    ["Standard", section],
    ["HTTP status", status],
  ].filter(([, value]) => value !== undefined);
  return `### \`${code}\`\n\n${title}.\n\n${rows.map(([name, value]) => `- ${name}: ${value}`).join("\n")}`;
}

/** Puts each example file between its marks. */
function withExamples(readme) {
  return readme.replace(
    /(<!-- code: (\S+) -->\n)[\s\S]*?(<!-- \/code -->)/g,
    (_, start, path, end) => `${start}\n\`\`\`js\n${readFileSync(path, "utf8")}\`\`\`\n\n${end}`,
  );
}
