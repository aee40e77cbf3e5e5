// npm run docs: writes what is generated in the documentation. With --check it writes nothing, names what is stale
// and ends with exit code 1 if anything is.
import { readFileSync, writeFileSync } from "node:fs";
import { toJsonSchema } from "@valibot/to-json-schema";
import { catalogue } from "../packages/tenonsaw/dist/problem/index.js";
import { deviationNotes } from "../packages/tenonsaw/dist/provider/index.js";
import { environmentSettings } from "../packages/tenonsaw/dist/server/index.js";

const isCheck = process.argv.includes("--check");
const stale = [];

put("docs/problems.md", problemsPage());
put("docs/deviations.md", deviationsPage());
put("packages/tenonsaw/settings.schema.json", settingsSchema());
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

function deviationsPage() {
  const entries = Object.entries(deviationNotes).map(
    ([name, { shape, reason, risk }]) =>
      `## \`${name}\`\n\n${reason}\n\n- Value: \`${shape.replaceAll("|", "or")}\`\n- Risk: ${risk}`,
  );
  return `# Deviations

Ways in which a provider departs from the standards, each declared by its name under \`deviations\` of that provider's
settings. None is on by default, and none switches off another check.

What harms nobody needs no deviation: a lifetime as a number in text, \`bearer\` in lower case, members nobody knows, an
error answer with an empty body or an unknown code.

This page is generated from \`packages/tenonsaw/src/provider/deviations.ts\` by \`npm run docs\`.

${entries.join("\n\n")}
`;
}

/** The JSON Schema of the settings file, each setting with the comment that stands above it in the source. */
function settingsSchema() {
  const comments = new Map();
  for (const file of ["provider/settings.ts", "server/settings.ts"]) {
    const source = readFileSync(`packages/tenonsaw/src/${file}`, "utf8");
    for (const [, comment, name] of source.matchAll(/\/\*\*((?:(?!\*\/)[\s\S])*)\*\/\s+([$\w]+): v\./g)) {
      comments.set(name, comment.replace(/\s*\n\s*\*\s?/g, " ").trim());
    }
  }
  const describe = (node) => {
    for (const [name, member] of Object.entries(node.properties ?? {})) {
      if (comments.has(name)) member.description = comments.get(name);
    }
    for (const value of Object.values(node)) {
      if (typeof value === "object" && value !== null) describe(value);
    }
    return node;
  };
  const schema = describe(
    toJsonSchema(environmentSettings, { errorMode: "ignore", overrideSchema: withoutFunctions }),
  );
  return `${JSON.stringify({ title: "Tenonsaw settings", ...schema }, undefined, 2)}\n`;
}

/** A file holds no functions: what allows one in code is left out of its schema. */
function withoutFunctions({ valibotSchema, jsonSchema }) {
  return valibotSchema.type === "custom" ? { not: {} } : jsonSchema;
}

/** Puts each example file between its marks. */
function withExamples(readme) {
  return readme.replace(
    /(<!-- code: (\S+) -->\n)[\s\S]*?(<!-- \/code -->)/g,
    (_, start, path, end) => `${start}\n\`\`\`js\n${readFileSync(path, "utf8")}\`\`\`\n\n${end}`,
  );
}
