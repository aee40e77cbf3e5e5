import { defineConfig } from "eslint/config";
import tseslint from "typescript-eslint";

/** The stations of packages/tenonsaw/src in the order of travel. */
const stations = [
  "provider",
  "attempt",
  "response",
  "grant",
  "identity",
  "launch",
  "oauth1",
  "guard",
  "session",
  "connection",
];
/** What every station may use, each of them only those before it. */
const foundations = ["platform", "problem", "trace", "jose"];
const edges = ["server", "stores", "browser"];

const folder = (name) => `packages/tenonsaw/src/${name}/**/*.ts`;
const order = [...foundations, ...stations];

/** A station imports only stations before it, and never an edge. */
const stationRules = order.map((name, index) => ({
  files: [folder(name)],
  ignores: ["**/*.test.ts"],
  rules: {
    "@typescript-eslint/no-restricted-imports": [
      "error",
      {
        patterns: [
          {
            group: [...order.slice(index + 1), ...edges].map((later) => `**/${later}/**`),
            message: `The station ${name}/ imports only what comes before it.`,
          },
          {
            group: ["node:*"],
            allowTypeImports: true,
            message: "Stations run in every runtime: what they need from Node comes through platform/.",
          },
        ],
      },
    ],
  },
}));

/** The rooms of the server in the order of a request's way: each imports only those before it, and not what puts them together. */
const rooms = ["settings", "door", "pages", "context", "sessions", "connections", "routes"];
const onlyAdapters = { group: ["node:*"], message: "Only the adapters import Node." };
const roomRules = rooms.map((name, index) => ({
  files: [folder(`server/${name}`)],
  ignores: ["**/*.test.ts"],
  rules: {
    "@typescript-eslint/no-restricted-imports": [
      "error",
      {
        patterns: [
          onlyAdapters,
          {
            group: [...rooms.slice(index + 1).map((later) => `../${later}/**`), "../adapters/**", "../*.js"],
            message: `The room server/${name}/ imports only the rooms before it.`,
          },
        ],
      },
    ],
  },
}));

const outsideWorld = "Time, randomness and connections come in through platform/.";

export default defineConfig(
  { ignores: ["**/dist/**", "**/bundle/**", "**/node_modules/**", ".cache/**", ".demo/**"] },
  {
    files: ["**/*.ts", "**/*.tsx"],
    extends: [tseslint.configs.strictTypeChecked, tseslint.configs.stylisticTypeChecked],
    languageOptions: {
      parserOptions: {
        project: [
          "./packages/*/tsconfig.json",
          "./examples/ferrywell/tsconfig.json",
          "./examples/ferrywell/pages/tsconfig.json",
          "./examples/ferrywell-react/tsconfig.json",
          "./examples/river-board/tsconfig.json",
          "./examples/rowers-health/tsconfig.json",
          "./tsconfig.tests.json",
        ],
        tsconfigRootDir: import.meta.dirname,
      },
    },
    rules: {
      "@typescript-eslint/consistent-type-imports": "error",
      "@typescript-eslint/switch-exhaustiveness-check": [
        "error",
        { considerDefaultExhaustiveForUnions: true },
      ],
      // Tokens read better with numbers and names written straight into text.
      "@typescript-eslint/restrict-template-expressions": ["error", { allowNumber: true }],
      // `_name` marks a member that is taken out so that it does not go on.
      "@typescript-eslint/no-unused-vars": [
        "error",
        { argsIgnorePattern: "^_", varsIgnorePattern: "^_", destructuredArrayIgnorePattern: "^_" },
      ],
      // Arrow functions that only call something are fine.
      "@typescript-eslint/no-confusing-void-expression": ["error", { ignoreArrowShorthand: true }],
    },
  },
  ...stationRules,
  {
    files: order.map(folder),
    ignores: [folder("platform"), "**/*.test.ts"],
    rules: {
      "no-restricted-globals": [
        "error",
        ...[
          "fetch",
          "crypto",
          "process",
          "Buffer",
          "window",
          "document",
          "setTimeout",
          "setInterval",
          "performance",
        ].map((name) => ({ name, message: outsideWorld })),
      ],
      "no-restricted-properties": [
        "error",
        { object: "Date", property: "now", message: outsideWorld },
        { object: "Math", property: "random", message: outsideWorld },
        { object: "AbortSignal", property: "timeout", message: outsideWorld },
        { object: "URL", property: "canParse", message: "Node 20 answers as it has been asked: isUrl." },
      ],
      "no-restricted-syntax": [
        "error",
        { selector: "NewExpression[callee.name='Date'][arguments.length=0]", message: outsideWorld },
        {
          selector: "NewExpression[callee.name=/^(Type|Range|Syntax)?Error$/]",
          message: "Every failure is a catalogued problem: call fail().",
        },
        {
          selector: "AwaitExpression > ImportExpression",
          message: "What cannot be loaded is a problem too: loadPart().",
        },
      ],
    },
  },
  {
    files: [folder("server"), "packages/tenonsaw/src/stores/memory.ts"],
    ignores: [folder("server/adapters"), "**/*.test.ts"],
    rules: { "@typescript-eslint/no-restricted-imports": ["error", { patterns: [onlyAdapters] }] },
  },
  ...roomRules,
  {
    files: ["packages/practice/src/**/*.ts"],
    ignores: ["**/*.test.ts"],
    rules: {
      "@typescript-eslint/no-restricted-imports": [
        "error",
        {
          patterns: [
            {
              regex: "^tenonsaw(/(?!jose$).*)?$",
              message:
                "The practice provider is written from the standards and shares nothing but jose, so that the two check each other.",
            },
          ],
        },
      ],
    },
  },
  {
    files: ["**/*.test.ts", "tests/**/*.ts"],
    rules: {
      "@typescript-eslint/no-non-null-assertion": "off",
      "@typescript-eslint/require-await": "off",
    },
  },
  {
    files: ["**/*.{js,mjs}"],
    rules: { "no-unused-vars": "error", "prefer-const": "error" },
  },
);
