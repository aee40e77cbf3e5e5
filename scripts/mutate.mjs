// npm run mutate: does every check have a test that fails without it? Changes the sources of what checks, one small thing
// at a time, and runs the tests beside them, with --wide then those of everything that runs in one process: a change that no
// test notices is a survivor, and is listed.
//   npm run mutate -- --count 60 --seed 2 --only jose
import { spawn } from "node:child_process";
import { cpSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { parseArgs } from "node:util";
import { globSync } from "tinyglobby";
import ts from "typescript";
import { createRandom } from "./random.mjs";

const { values } = parseArgs({
  options: {
    count: { type: "string", default: "120" },
    seed: { type: "string", default: "1" },
    only: { type: "string", default: "" },
    wide: { type: "boolean", default: false },
  },
});
const source = "packages/tenonsaw/src";
/** What checks, and the tests that are to notice. */
const named = [
  ["jose/*.ts", "jose identity/identity identity/response-forms"],
  ["response/*.ts", "response identity server/server provider/deviations"],
  ["identity/*.ts", "identity connection/fresh-token server/sessions/welcome server/sessions/kept-claims"],
  ["connection/*.ts", "connection server/sessions server/connections server/routes/relay"],
  ["session/*.ts", "session stores/cookie stores/store server connection"],
  ["guard/*.ts", "guard"],
  ["launch/*.ts", "launch ../../../tests/launch.test.ts"],
  ["provider/*.ts", "provider identity grant server/settings"],
  ["server/**/*.ts", "server ../../../tests/launch.test.ts"],
];
/** No file that decides is left out: what is not named above is shown to the tests of its own folder. */
const folders = [...new Set(globSync("**/*.ts", { cwd: source }).map((path) => path.split("/")[0]))];
const unnamed = folders.filter((folder) => !named.some(([pattern]) => pattern.startsWith(`${folder}/`)));
const subjects = [...named, ...unnamed.map((folder) => [`${folder}/**/*.ts`, folder])].filter(([pattern]) =>
  pattern.startsWith(values.only),
);
/** What those do not notice is shown to these: to all tests that run the sources in one process. */
const others = [
  source,
  ..."causes dpop fapi2 frameworks guard guard-frameworks launch mutual-tls oauth1 providers proxy rehearsals"
    .concat(" response-modes store-faults")
    .split(" ")
    .map((name) => `tests/${name}.test.ts`),
];

const random = createRandom(Number(values.seed));

const swaps = new Map([
  ["===", "!=="],
  ["!==", "==="],
  ["<", "<="],
  ["<=", "<"],
  [">", ">="],
  [">=", ">"],
  ["&&", "||"],
  ["||", "&&"],
  ["+", "-"],
  ["-", "+"],
  ["??", "&&"],
]);

/** What is said to people, and which of its causes a problem has: the planted mistakes of docs/diagnosis.md hold those. */
function isWords(node, file) {
  const name = node.name?.getText(file) ?? "";
  if (ts.isPropertyAssignment(node))
    return /^(received|expected|here|message|findings|because|detail)$/.test(name);
  if (ts.isFunctionLike(node)) return /^#?(describe|explain|tell|why|shown|quoted)|Because$/.test(name);
  if (ts.isVariableDeclaration(node)) return /^(received|expected|because|message|shown)$/.test(name);
  // The last argument of check(tools, code, holds, detail).
  return ts.isArrowFunction(node) && ts.isCallExpression(node.parent) && node.parent.arguments[3] === node;
}

/** Every small change to a file that changes more than words. */
function mutantsOf(path) {
  const text = readFileSync(path, "utf8");
  const file = ts.createSourceFile(path, text, ts.ScriptTarget.Latest, true);
  const found = [];
  const add = (node, to) => found.push({ path, start: node.getStart(file), end: node.getEnd(), to });
  const walk = (node) => {
    // Types and what is said to people change nothing.
    if (
      ts.isTypeNode(node) ||
      ts.isInterfaceDeclaration(node) ||
      ts.isTypeAliasDeclaration(node) ||
      ts.isImportDeclaration(node)
    )
      return;
    if (isWords(node, file)) return;
    if (ts.isTemplateExpression(node)) return;
    if (ts.isBinaryExpression(node)) {
      const swap = swaps.get(node.operatorToken.getText(file));
      const isText = [node.left, node.right].some(
        (side) => ts.isStringLiteralLike(side) || ts.isTemplateExpression(side),
      );
      if (swap && !(isText && ["+", "-"].includes(node.operatorToken.getText(file))))
        add(node.operatorToken, swap);
    }
    if (ts.isNumericLiteral(node)) add(node, `(${node.getText(file)} + 1)`);
    if (node.kind === ts.SyntaxKind.TrueKeyword) add(node, "false");
    if (node.kind === ts.SyntaxKind.FalseKeyword) add(node, "true");
    if (ts.isPrefixUnaryExpression(node) && node.operator === ts.SyntaxKind.ExclamationToken)
      add(node, node.operand.getText(file));
    if (ts.isIfStatement(node)) add(node.expression, "false");
    if (ts.isConditionalExpression(node)) add(node.condition, "false");
    // A check that is not made at all.
    if (ts.isExpressionStatement(node)) {
      const call = ts.isAwaitExpression(node.expression) ? node.expression.expression : node.expression;
      // What is noted is words.
      if (ts.isCallExpression(call) && call.expression.getText(file) !== "note") add(node, ";");
    }
    ts.forEachChild(node, walk);
  };
  walk(file);
  return found;
}

const all = subjects.flatMap(([pattern, tests]) => {
  const paths = globSync(`${source}/${pattern}`, { ignore: ["**/*.test.ts", "**/index.ts"] });
  if (paths.length === 0) throw new TypeError(`nothing is called ${pattern} any more`);
  return paths.flatMap((path) =>
    mutantsOf(path).map((mutant) => ({
      ...mutant,
      tests: tests.split(" ").map((each) => `${source}/${each}`),
    })),
  );
});
if (all.length === 0) throw new TypeError(`nothing that checks begins with ${values.only}`);
const chosen = [];
for (const rest = [...all]; chosen.length < Number(values.count) && rest.length > 0;)
  chosen.push(...rest.splice(random(rest.length), 1));

/** Two copies of the tree, so that two changes are tried at a time and none of them here. */
const lanes = [0, 1].map(() => {
  const copy = mkdtempSync(join(tmpdir(), "tenonsaw-mutate-"));
  for (const name of [
    "packages",
    "scripts",
    "tests",
    "examples",
    "vitest.config.ts",
    "package.json",
    "tsconfig.base.json",
  ])
    cpSync(name, join(copy, name), { recursive: true, filter: (path) => !path.includes("node_modules") });
  symlinkSync(join(process.cwd(), "node_modules"), join(copy, "node_modules"));
  return copy;
});
for (const tests of [...new Set(chosen.map((each) => each.tests.join(" ")))].map((each) => each.split(" ")))
  if (!(await passes(lanes[0], tests))) throw new TypeError(`unchanged, ${tests.join(" ")} does not pass`);
if (values.wide && !(await passes(lanes[1], others, 400)))
  throw new TypeError("unchanged, the tests do not pass");

let [killed, killedLater, survivors, next] = [0, 0, 0, 0];
const startedAt = performance.now();
await Promise.all(
  lanes.map(async (copy) => {
    for (let mutant = chosen[next++]; mutant; mutant = chosen[next++]) {
      const original = readFileSync(mutant.path, "utf8");
      writeFileSync(
        join(copy, mutant.path),
        original.slice(0, mutant.start) + mutant.to + original.slice(mutant.end),
      );
      if (!(await passes(copy, mutant.tests))) killed += 1;
      else if (values.wide && !(await passes(copy, others, 400))) killedLater += 1;
      else {
        survivors += 1;
        tell(mutant);
      }
      writeFileSync(join(copy, mutant.path), original);
      if (process.stderr.isTTY)
        process.stderr.write(`\r${killed + killedLater + survivors} of ${chosen.length}`);
    }
  }),
);
for (const copy of lanes) rmSync(copy, { recursive: true });
if (process.stderr.isTTY) process.stderr.write("\r");
console.log(
  `${chosen.length} of ${all.length} changes, seed ${values.seed}: ${killed} noticed by the tests beside them, ${killedLater} by others, ${survivors} by none, in ${Math.round((performance.now() - startedAt) / 1000)} s`,
);

/** As soon as it is known: it takes long. */
function tell({ path, start, end, to }) {
  const text = readFileSync(path, "utf8");
  const line = text.slice(0, start).split("\n").length;
  console.log(
    `  ${path.slice(source.length + 1)}:${line}  ${text.split("\n")[line - 1].trim().slice(0, 90)}   [${text.slice(start, end).slice(0, 40).replace(/\s+/g, " ")} -> ${to.slice(0, 40)}]`,
  );
}

/** Whether all tests pass; what takes for ever does not. */
function passes(cwd, tests, seconds = 120) {
  return new Promise((resolve) => {
    const args = ["node_modules/vitest/vitest.mjs", "run", "--bail", "1", "--reporter", "dot", ...tests];
    const child = spawn(process.execPath, args, {
      cwd,
      stdio: "ignore",
      // A group of its own, so that a worker in a loop without end goes with it.
      detached: true,
      env: { ...process.env, NO_COLOR: "1" },
    });
    const timer = setTimeout(() => process.kill(-child.pid, "SIGKILL"), seconds * 1000);
    child.on("exit", (code) => {
      clearTimeout(timer);
      resolve(code === 0);
    });
  });
}
