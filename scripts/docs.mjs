// npm run docs: writes what is generated in the documentation. With --check it writes nothing, names what is stale
// and ends with exit code 1 if anything is.
import { execFile } from "node:child_process";
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { promisify } from "node:util";
import { dirname } from "node:path";
import { readApi } from "./api.mjs";
import { membersOf, textOf } from "./settings-types.mjs";
import { globSync } from "tinyglobby";
import { toJsonSchema } from "@valibot/to-json-schema";
import { catalogue } from "../packages/tenonsaw/dist/problem/index.js";
import { deviationNotes } from "../packages/tenonsaw/dist/provider/index.js";
import { environmentSettings } from "../packages/tenonsaw/dist/server/settings/settings.js";
import { musts } from "./musts.mjs";
import { launchMusts } from "./musts-launch.mjs";
import { readImports, structurePicture } from "./structure.mjs";
import { proofFaults } from "../packages/practice/dist/proofs.js";
import { rehearsals } from "../packages/practice/dist/rehearsals.js";
import { tokenFaults } from "../packages/practice/dist/tokens.js";

const isCheck = process.argv.includes("--check");
const stale = [];
/** What a package exports and says nothing of. */
const silent = [];

put("docs/problems.md", problemsPage());
put("docs/deviations.md", deviationsPage());
put("docs/rehearsals.md", rehearsalsPage());
put("docs/checks.md", checksPage());
put("docs/limits.md", limitsPage());
put("docs/structure.svg", structurePicture(readImports()));
put("packages/tenonsaw/settings.schema.json", settingsSchema());
put("docs/settings.md", settingsPage());
put("docs/commands.md", await commandsPage());
putApiPages();
for (const page of ["README.md", ...globSync("docs/guide-*.md")])
  put(page, withExamples(readFileSync(page, "utf8")));
if (stale.length > 0) {
  console.error(`stale: ${stale.join(", ")}; run: npm run docs`);
  process.exitCode = 1;
}
if (silent.length > 0) {
  console.error(`nothing is said of: ${silent.join(", ")}; write a comment above it`);
  process.exitCode = 1;
}

function put(path, text) {
  mkdirSync(dirname(path), { recursive: true });
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
  const { title, expected, here, atProvider, section, status, causes = {} } = catalogue[code];
  const rows = [
    ["Expected", expected],
    ["Change here", here],
    ["Change at the provider", atProvider],
    ["Standard", section],
    ["HTTP status", status],
  ].filter(([, value]) => value !== undefined);
  const general = rows.map(([name, value]) => `- ${name}: ${value}`).join("\n");
  const special = Object.entries(causes).map(([name, cause]) => {
    const parts = [cause.title, cause.here, cause.atProvider && `At the provider: ${cause.atProvider}`];
    return `- \`${name}\`: ${parts
      .filter((part) => part !== undefined)
      .map((part) => part.replace(/[.]?$/, "."))
      .join(" ")}`;
  });
  const found =
    special.length === 0
      ? ""
      : `\n\nWhere the cause can be told, \`because\` names it:\n\n${special.join("\n")}`;
  return `### \`${code}\`\n\n${title}.\n\n${general}${found}`;
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

function rehearsalsPage() {
  const asks = {
    hybrid: "with response type `code id_token`",
    class: "with `acrValues`",
    recent: "with `maxAge`",
    signed: "with response mode `query.jwt`",
    bound: "with tokens bound to a key",
    encrypted: "with encrypted tokens",
    pushed: "with requests that are sent ahead",
    oauth1: "at Old Wharf Archive",
    launch: "at Boathouse Clinic",
  };
  const rows = rehearsals.map(({ name, about, ending, asks: needed }) => {
    const result = ending.includes(".")
      ? `[\`${ending}\`](problems.md#${ending.replaceAll(".", "")})`
      : ending;
    return `| \`${name}\` | ${about.replace(/[<>]/g, "")} | ${result}${needed === undefined ? "" : `, ${asks[needed]}`} |`;
  });
  return `# Rehearsals

The faults that the practice providers play on request, ${rehearsals.length} of them, and what a sound app makes of each: the problem its
developer is told, or a sign-in that works all the same. \`tenonsaw practice --list\` prints them.

Play one for everybody with \`tenonsaw practice --rehearse <name>\` or \`practice.rehearse(name)\`; or choose it on the
sign-in page or in the clinic's ward, for that sign-in or opening alone. Faults in metadata, configuration and key set can be
played for everybody only.

This page is generated from \`packages/practice/src/rehearsals.ts\` by \`npm run docs\`; \`tests/rehearsals.test.ts\` and \`tests/launch.test.ts\` play each.

| name | what goes wrong | how it ends |
| --- | --- | --- |
${rows.join("\n")}

## For an API of your own

Access tokens by \`practice.token({ fault })\`, ${tokenFaults.length} of them, and proofs of possession by \`practice.proof({ token, url, fault })\`, ${proofFaults.length};
\`tests/guard.test.ts\` plays each.

| name | what goes wrong | what the API's developer is told |
| --- | --- | --- |
${[...tokenFaults, ...proofFaults].map(faultRow).join("\n")}
`;
}

function faultRow({ name, about, ending, because }) {
  const link = `[\`${ending}\`](problems.md#${ending.replaceAll(".", "")})`;
  return `| \`${name}\` | ${about} | ${link}${because === undefined ? "" : `, \`${because}\``} |`;
}

/** How long what comes from outside may be, by the comments of the table itself. */
function limitsPage() {
  const source = readFileSync("packages/tenonsaw/src/platform/limits.ts", "utf8");
  const rows = [...source.matchAll(/\/\*\* (.+?) \*\/\s+(\w+): ([\d_]+),/g)].map(
    ([, what, name, number]) =>
      `| ${what} | \`${name}\` | ${Number(number.replaceAll("_", "")).toLocaleString("en-GB")} |`,
  );
  return `# Limits

How long what comes from outside may be: in characters where it is text, in bytes or seconds where that is said. What is longer is
refused by name, or left out or cut where that is said; \`limits\` of \`tenonsaw/platform\` is the same table for a program. What
providers and APIs send is limited beside that: an answer has 1 MiB and the provider's \`timeoutSeconds\`, a signed token 64 KiB, an encrypted one
256 KiB, JSON 32 levels. A call of a store has 5 seconds.

This page is generated from \`packages/tenonsaw/src/platform/limits.ts\` by \`npm run docs\`.

| what | name | at most |
| --- | --- | --- |
${rows.join("\n")}
`;
}

/** Each check of sign-in: where it comes from, what fails it, and what shows it. */
function checksPage() {
  const stations = ["provider", "attempt", "response", "grant", "identity", "jose", "guard"];
  const tests = globSync(["packages/*/src/**/*.test.ts", "tests/*.test.ts"])
    .filter((path) => !path.includes("node_modules"))
    .sort()
    .map((path) => ({ path, text: readFileSync(path, "utf8") }));
  const rows = Object.entries(catalogue)
    .filter(([code]) => stations.includes(code.slice(0, code.indexOf("."))))
    .map(([code, { title, section = "" }]) => {
      // Some tests leave the station out, which one word is too little for, and another station's code is not meant by.
      const short = code.slice(code.indexOf(".") + 1);
      const alone = short.includes("-") ? `|(?<![\\w.-])${short}(?![\\w-])` : "";
      const named = new RegExp(`${code.replace(".", "\\.")}(?![\\w-])${alone}`);
      const inTests = tests.filter(({ text }) => named.test(text));
      const played = rehearsals.filter(({ ending }) => ending === code).map(({ name }) => `\`${name}\``);
      const files = inTests.map(({ path }) => `[${path.slice(path.lastIndexOf("/") + 1)}](../${path})`);
      return `| ${title} | ${section} | \`${code}\` | ${played.join(", ")} | ${files.join(", ")} |`;
    });
  const testNamed = (path, title) => {
    const test = tests.find((each) => each.path === path);
    if (!test?.text.includes(title)) throw new RangeError(`no test of ${path} is called ${title}`);
    return `[${path.slice(path.lastIndexOf("/") + 1)}](../${path}): ${title}`;
  };
  const asked = musts.map(
    ([section, what, path, title]) => `| ${section} | ${what} | ${testNamed(path, title)} |`,
  );
  const opened = launchMusts.map(([section, what, path, title, played]) => {
    const unknown = played.find((name) => !rehearsals.some((each) => each.name === name));
    if (unknown !== undefined) throw new RangeError(`no rehearsal is called ${unknown}`);
    const names = played.map((name) => `\`${name}\``).join(", ") || "—";
    return `| ${section} | ${what} | ${testNamed(path, title)} | ${names} |`;
  });
  return `# Checks

What is checked on the way of a sign-in and at an API's door, by the problem that a failure is: where the standards ask for it, the rehearsal
that plays it, and the tests in which it fails. Sections are of the standards named in [problems.md](problems.md), which
also says what to change.

This page is generated by \`npm run docs\`, from the catalogue of problems, the list of rehearsals and the tests.

| what is wrong | standard | problem | rehearsal | tests |
| --- | --- | --- | --- | --- |
${rows.join("\n")}

## What an API has to do

What the standards ask of an API that takes access tokens or signed requests, and the test that shows it.

| standard | what has to be so | test |
| --- | --- | --- |
${asked.join("\n")}

## What an app has to do that a host opens

What SMART App Launch 2.2 asks of an app, the test that shows it, and the rehearsals at Boathouse Clinic that play it.

| section | what has to be so | test | rehearsals |
| --- | --- | --- | --- |
${opened.join("\n")}
`;
}

/** The JSON Schema of the settings file, each setting with the sentence that stands above it in the types. */
function settingsSchema() {
  const describe = (node, names) => {
    const members = names.flatMap((name) => membersOf(name));
    for (const [name, member] of Object.entries(node.properties ?? {})) {
      const found = members.find((each) => each.name === name);
      if (found === undefined) throw new RangeError(`${names.join(" or ")} says nothing of ${name}`);
      member.description = found.text;
      for (const inner of objectsIn(member)) describe(inner, found.types);
    }
    return node;
  };
  const schema = describe(
    toJsonSchema(environmentSettings, { errorMode: "ignore", overrideSchema: withoutFunctions }),
    ["SettingsData"],
  );
  return `${JSON.stringify({ title: "Tenonsaw settings", ...schema }, undefined, 2)}\n`;
}

/** The objects with members of their own that a value may be, or be made of. */
function objectsIn(node) {
  if (node.properties) return [node];
  const parts = [node.items, node.additionalProperties, ...(node.anyOf ?? [])];
  return parts.filter((part) => typeof part === "object" && part !== null).flatMap(objectsIn);
}

/** A file holds no functions: what allows one in code is left out of its schema. */
function withoutFunctions({ valibotSchema, jsonSchema }) {
  return valibotSchema.type === "custom" ? { not: {} } : jsonSchema;
}

/** All settings, each with its sentence: by the type they stand in, the outermost first. */
function settingsPage() {
  const sections = [];
  const queue = ["SignInSettings"];
  for (let name = queue.shift(); name !== undefined; name = queue.shift()) {
    const members = membersOf(name).filter(({ name: each }) => !each.startsWith("["));
    const rows = members.map(({ name: each, text, type, isRequired }) => {
      const shown = type
        .replace(/\s+/g, " ")
        .replace(/readonly /g, "")
        .replaceAll("|", "\\|");
      return `| \`${each}\`${isRequired ? ", required" : ""} | ${text.replaceAll("|", "\\|")} | \`${shown}\` |`;
    });
    sections.push(
      `## ${name}\n\n${textOf(name)}\n\n| member | means | type |\n| --- | --- | --- |\n${rows.join("\n")}`,
    );
    for (const { types } of members)
      for (const type of types.flatMap((each) =>
        each === "AnyProviderSettings" ? ["ProviderSettings", "OAuth1Settings"] : [each],
      ))
        if (
          !queue.includes(type) &&
          !sections.some((each) => each.startsWith(`## ${type}\n`)) &&
          membersOf(type).length > 0
        )
          queue.push(type);
  }
  return `# Settings

What \`createSignIn\` takes, and a settings file; the file's have no functions and may have several \`environments\`. Every member has a unit, a
default or a standard where there is one.

This page is generated from the types by \`npm run docs\`.

${sections.join("\n\n")}
`;
}

/** Every command, as it describes itself. */
async function commandsPage() {
  const help = async (...command) => {
    const env = { ...process.env, NO_COLOR: "1", COLUMNS: "100" };
    const args = ["packages/tenonsaw/bin/tenonsaw.js", ...command, "--help"];
    return (await promisify(execFile)(process.execPath, args, { env })).stdout.trimEnd();
  };
  const namesIn = (text) =>
    [...(text.split("Commands:\n")[1] ?? "").split("\n\n")[0].matchAll(/^ {2}([a-z]+) /gm)]
      .map(([, name]) => name)
      .filter((name) => name !== "help");
  const sectionsOf = async (path) => {
    const text = await help(...path);
    const own = `${"#".repeat(path.length + 1)} ${["tenonsaw", ...path].join(" ")}\n\n\`\`\`text\n${text}\n\`\`\``;
    return [own, ...(await Promise.all(namesIn(text).map((name) => sectionsOf([...path, name])))).flat()];
  };
  const [general, ...sections] = await sectionsOf([]);
  return `# The command

\`npx tenonsaw\` in a folder where \`tenonsaw\` is installed. With \`--json\` the result on
standard output is JSON, and so are problems and usage errors on standard error. Colours and moving marks are for terminals only, and
\`NO_COLOR\` switches colours off.

${general.slice(general.indexOf("```text"))}

**Completion.** \`tenonsaw completion bash|zsh|fish\` prints it for your shell; where to put it is [below](#tenonsaw-completion).

**On Windows.** Quote with double quotes, in cmd and in PowerShell; an address with \`&\` in it always. Variables are set by \`set NAME=value\` in
cmd and by \`$env:NAME = "value"\` in PowerShell, for the commands that follow. What is long, or holds quotes itself, needs no quoting where it comes
from a file: \`Get-Content token.txt | npx tenonsaw explain\`, in cmd \`npx tenonsaw explain < token.txt\`.

${sections.join("\n\n")}

This page is generated from the commands by \`npm run docs\`.
`;
}

/** A page for each entry; what several entries export is described at the first and named at the others. */
function putApiPages() {
  const homes = new Map();
  const pageOf = (entry) =>
    entry === "tenonsaw" ? "core" : entry.slice("tenonsaw/".length).replace("/", "-");
  const rows = readApi().map(({ entry, names }) => {
    for (const { name, text } of names) {
      if (!homes.has(name)) homes.set(name, entry);
      if (text === "") silent.push(`${name} (${entry})`);
    }
    const isOwn = ({ name }) => homes.get(name) === entry;
    const borrowed = names
      .filter((each) => !isOwn(each))
      .map(({ name }) => `[\`${name}\`](${pageOf(homes.get(name))}.md#${name.toLowerCase()})`);
    put(
      `docs/api/${pageOf(entry)}.md`,
      [
        `# ${entry}`,
        "This page is generated from the sources by `npm run docs`; [all entries](../api.md).",
        ...(borrowed.length === 0 ? [] : [`Exported here as well: ${borrowed.join(", ")}.`]),
        ...names.filter(isOwn).map(describeExport),
      ].join("\n\n") + "\n",
    );
    const shown = names.map(({ name }) => `\`${name}\``).join(", ");
    return `| [${entry}](api/${pageOf(entry)}.md) | ${shown} |`;
  });
  put(
    "docs/api.md",
    `# What the package exports

A page for each entry, generated from the sources by \`npm run docs\`. Settings have [a page of their own](settings.md).

| entry | exports |
| --- | --- |
${rows.join("\n")}
`,
  );
}

function describeExport({ name, kind, text, throws, declaration, members }) {
  const list = members.map((each) => `- \`${each.declaration}\`${each.text === "" ? "" : `: ${each.text}`}`);
  return [
    `## \`${name}\``,
    `${kind === "value" ? "" : `*${kind}* · `}${text}`,
    ...(declaration === undefined ? [] : [`\`\`\`ts\n${declaration}\n\`\`\``]),
    ...(throws === undefined ? [] : [`Throws ${throws}.`]),
    ...(list.length === 0 ? [] : [list.join("\n")]),
  ].join("\n\n");
}

/** Puts each example file between its marks. */
function withExamples(readme) {
  return readme.replace(
    /(<!-- code: (\S+) -->\n)[\s\S]*?(<!-- \/code -->)/g,
    (_, start, path, end) => `${start}\n\`\`\`js\n${readFileSync(path, "utf8")}\`\`\`\n\n${end}`,
  );
}
