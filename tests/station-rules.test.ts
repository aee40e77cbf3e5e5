import { fileURLToPath } from "node:url";
import { ESLint } from "eslint";
import { describe, expect, it } from "vitest";
import { circlesOf, readImports } from "../scripts/structure.mjs";

const root = fileURLToPath(new URL("..", import.meta.url));
const eslint = new ESLint({
  cwd: root,
  overrideConfig: { languageOptions: { parserOptions: { project: null } } },
  ruleFilter: ({ ruleId }) => ruleId.includes("no-restricted"),
});

/** Messages of the station rules for a line of code, as if it stood in `file`. */
async function lint(file: string, code: string): Promise<readonly string[]> {
  const [result] = await eslint.lintText(code, { filePath: `${root}packages/${file}` });
  return (result?.messages ?? []).map(({ message }) => message);
}

describe("the station rules", () => {
  it.each([
    [
      "a later station",
      "tenonsaw/src/attempt/x.ts",
      'import { seal } from "../session/index.js";\nseal();',
      /only what comes before/,
    ],
    [
      "an edge",
      "tenonsaw/src/session/x.ts",
      'import { createMemoryStore } from "../stores/memory.js";\ncreateMemoryStore();',
      /only what comes before/,
    ],
    [
      "a foundation's later neighbour",
      "tenonsaw/src/platform/x.ts",
      'import { fail } from "../problem/index.js";\nfail();',
      /only what comes before/,
    ],
    [
      "re-exports of a later station",
      "tenonsaw/src/grant/x.ts",
      'export * from "../identity/index.js";',
      /only what comes before/,
    ],
    ["Node", "tenonsaw/src/grant/x.ts", 'import { readFile } from "node:fs";\nreadFile();', /every runtime/],
    [
      "Node, in the server",
      "tenonsaw/src/server/x.ts",
      'import { readFile } from "node:fs";\nreadFile();',
      /Only the adapters/,
    ],
    [
      "a later room of the server",
      "tenonsaw/src/server/door/x.ts",
      'import { beginRoute } from "../routes/begin-route.js";\nbeginRoute();',
      /only the rooms before it/,
    ],
    [
      "what puts the rooms together",
      "tenonsaw/src/server/routes/x.ts",
      'import { createSignIn } from "../create-sign-in.js";\ncreateSignIn();',
      /only the rooms before it/,
    ],
    ["the clock", "tenonsaw/src/grant/x.ts", "Date.now();", /platform/],
    ["the clock by another way", "tenonsaw/src/grant/x.ts", "new Date();", /platform/],
    ["the network", "tenonsaw/src/provider/x.ts", 'void fetch("https://id.quayside.example");', /platform/],
    ["randomness", "tenonsaw/src/attempt/x.ts", "Math.random();", /platform/],
    ["a bare error", "tenonsaw/src/identity/x.ts", 'throw new Error("no");', /catalogued problem/],
    [
      "the library, in the practice provider",
      "practice/src/x.ts",
      'import { openProvider } from "tenonsaw";\nopenProvider();',
      /nothing but jose/,
    ],
    [
      "another part of it",
      "practice/src/x.ts",
      'import { fail } from "tenonsaw/problem";\nfail();',
      /nothing but jose/,
    ],
  ])("refuse %s", async (_, file, code, message) => {
    expect(await lint(file, code)).toEqual([expect.stringMatching(message)]);
  });

  it("leave no circle of files that import each other", () => {
    for (const name of ["tenonsaw", "practice", "cli"]) {
      const imports = readImports(`packages/${name}/src`);
      expect(imports.size).toBeGreaterThan(10);
      expect(circlesOf(imports)).toEqual([]);
    }
    const circle = new Map(Object.entries({ a: ["b"], b: ["c"], c: ["b"] }));
    expect(circlesOf(circle)).toEqual([["b", "c"]]);
  });

  it.each([
    [
      "an earlier station",
      "tenonsaw/src/session/x.ts",
      'import { refreshGrant } from "../grant/index.js";\nrefreshGrant();',
    ],
    [
      "jose, in the practice provider",
      "practice/src/x.ts",
      'import { signJws } from "tenonsaw/jose";\nsignJws();',
    ],
    ["an instant that was given", "tenonsaw/src/grant/x.ts", "new Date(0);"],
    ["a problem, in a test too", "tenonsaw/src/grant/x.test.ts", 'throw new Error("no");'],
  ])("let %s be", async (_, file, code) => {
    expect(await lint(file, code)).toEqual([]);
  });
});
