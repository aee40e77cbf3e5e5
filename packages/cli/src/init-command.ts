import { randomBytes } from "node:crypto";
import { existsSync } from "node:fs";
import { join } from "node:path";
import { createInterface } from "node:readline/promises";
import { Command, Option } from "commander";
import pc from "picocolors";
import { ProblemError } from "tenonsaw";
import { chooseEnvironment } from "tenonsaw/server";
import express from "./init/first-app/express.mjs?raw";
import fastify from "./init/first-app/fastify.mjs?raw";
import hono from "./init/first-app/hono.mjs?raw";
import koa from "./init/first-app/koa.mjs?raw";
import node from "./init/first-app/node.mjs?raw";
import { makeFolder, writeNewFile } from "./files.js";

/** What a first app is written in, what it is, and what it needs beside tenonsaw and the driver of its store. */
const frameworks = {
  node: { program: node, needs: [] },
  express: { program: express, needs: ["express"] },
  fastify: { program: fastify, needs: ["fastify"] },
  koa: { program: koa, needs: ["koa"] },
  hono: { program: hono, needs: ["hono", "@hono/node-server"] },
} as const satisfies Record<string, { readonly program: string; readonly needs: readonly string[] }>;
type Framework = keyof typeof frameworks;

/** Where `tenonsaw practice` is, and what it calls its first client. */
const practice = {
  issuer: "http://localhost:4600",
  clientId: "ferrywell",
  secret: "only-for-practice",
  tidebook: "http://localhost:4601",
};
const origin = "http://localhost:5173";

interface InitOptions {
  readonly framework?: Framework;
  readonly issuer?: string;
  readonly clientId?: string;
  readonly folder: string;
  readonly json?: true;
}

export function initCommand(): Command {
  return new Command("init")
    .description(
      "Write a settings file, a sealing key and a first app. Nothing is downloaded or written over.",
    )
    .addOption(
      new Option("--framework <name>", "what the app is written in").choices(Object.keys(frameworks)),
    )
    .option("--issuer <url>", "issuer URL of the provider (default: the practice provider)")
    .option("--client-id <id>", "client ID from the registration there")
    .option("--folder <path>", "where to write", ".")
    .option("--json", "print for scripts, and ask nothing")
    .addHelpText(
      "after",
      `
Without flags it asks three questions; where nobody can answer, or with --json, the defaults hold.

Examples:
  tenonsaw init
  tenonsaw init --framework express
  tenonsaw init --framework hono --issuer https://id.quayside.example --client-id ferrywell

Exit code: 0 done, 2 it could not be done.`,
    )
    .action(run);
}

async function run(options: InitOptions): Promise<void> {
  const { framework, issuer, clientId } = await ask(options);
  const isPractice = issuer === practice.issuer;
  const scope = isPractice ? "openid profile offline_access tides.read" : "openid profile";
  const settings = {
    $schema: "./node_modules/tenonsaw/settings.schema.json",
    origin,
    keys: { file: "app.keys" },
    development: true,
    providers: {
      quayside: { title: "Quayside ID", issuer, clientId, clientSecret: { file: "quayside.secret" }, scope },
    },
    apis: { tidebook: { provider: "quayside", origin: practice.tidebook, sample: "/tides/today" } },
  };
  // What is written has to hold: a misspelt issuer is told before there is a file with it.
  chooseEnvironment(settings);
  const key = randomBytes(32).toString("base64url");
  const files = {
    "tenonsaw.config.json": JSON.stringify(settings, undefined, 2),
    "app.keys": key,
    "quayside.secret": isPractice ? practice.secret : "put the client secret here",
    "server.mjs": frameworks[framework].program.trimEnd(),
  };
  const { folder } = options;
  makeFolder(folder);
  const there = Object.keys(files).filter((name) => existsSync(join(folder, name)));
  if (there.length > 0)
    throw new ProblemError("cli.file-unwritable", {
      received: `${there.join(", ")}: there already`,
      because: "there",
      here: "Name another folder with --folder, or move them away; nothing was written.",
    });
  for (const [name, text] of Object.entries(files)) {
    const isSecret = name === "app.keys" || name === "quayside.secret";
    writeNewFile(join(folder, name), `${text}\n`, isSecret ? 0o600 : 0o644);
  }
  const packages = ["tenonsaw", "libsql", ...frameworks[framework].needs];
  if (options.json) {
    console.log(JSON.stringify({ folder, files: Object.keys(files), packages }));
    return;
  }
  const next = [
    ...(folder === "." ? [] : [`cd ${folder}`]),
    `npm install ${packages.join(" ")}`,
    ...(isPractice
      ? ["npx tenonsaw practice        # in another terminal"]
      : ["npx tenonsaw sheet           # what to register", "npx tenonsaw check"]),
    "node server.mjs              # then open " + origin,
  ];
  console.log(`${pc.green("Written")} to ${folder === "." ? "this folder" : folder}:
  tenonsaw.config.json   the settings, which your editor completes
  app.keys               the sealing key, readable by you only
  quayside.secret        ${isPractice ? "the practice provider's client secret" : "put the client secret here"}
  server.mjs             a first app

Keep app.keys and quayside.secret out of version control.${isPractice ? "" : " `tidebook` in the settings is the practice API: put yours there."} Go on with:

${next.map((line) => `  ${line}`).join("\n")}`);
}

/** What the flags do not say is asked, where somebody can answer; else it is what the practice provider needs. */
async function ask(
  options: InitOptions,
): Promise<Required<Pick<InitOptions, "framework" | "issuer" | "clientId">>> {
  const { framework = "node", issuer = practice.issuer, clientId = practice.clientId } = options;
  const isAsked = options.framework === undefined && options.issuer === undefined;
  if (!isAsked || options.json || !process.stdin.isTTY) return { framework, issuer, clientId };
  // Line by line, as a terminal edits it: nothing here moves the cursor.
  const terminal = createInterface({ input: process.stdin, output: process.stdout, terminal: false });
  try {
    const question = async (text: string, usual: string) =>
      (await terminal.question(`${text} ${pc.dim(`(${usual})`)} `)).trim() || usual;
    const names = Object.keys(frameworks);
    let chosen = await question(`What is the app written in: ${names.join(", ")}?`, framework);
    while (!Object.hasOwn(frameworks, chosen))
      chosen = await question(`One of ${names.join(", ")}, please:`, framework);
    const at = await question("Issuer URL of the provider, or return to practise first?", issuer);
    const as = await question("Client ID there?", clientId);
    return { framework: chosen as Framework, issuer: at, clientId: as };
  } finally {
    terminal.close();
  }
}
