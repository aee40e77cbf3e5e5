import { execFileSync } from "node:child_process";
import { mkdir, mkdtemp, readFile, readdir, rm, symlink, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { pathToFileURL } from "node:url";
import { ProblemError } from "tenonsaw/problem";
import { publint } from "publint";
import { build } from "vite";
import { afterAll, beforeAll, expect, it } from "vitest";
import { createVisitor } from "tenonsaw-practice";
import { freePorts } from "../scripts/servers.mjs";
import { root, start } from "./support/processes.js";

const packages = { tenonsaw: "tenonsaw", practice: "tenonsaw-practice" };
let folder: string;

// A folder of a user's, with the packages as they would be published, and nothing else but the stores' drivers.
beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), "packed-"));
  await mkdir(join(folder, "node_modules"));
  await writeFile(join(folder, "package.json"), '{ "type": "module" }');
  for (const driver of ["libsql", "pg", "react", "redis"])
    await symlink(`${root}node_modules/${driver}`, join(folder, "node_modules", driver));
  for (const [name, published] of Object.entries(packages)) {
    const options = { cwd: `${root}packages/${name}`, stdio: "pipe" as const };
    const [packed] = JSON.parse(
      execFileSync(
        "npm",
        ["pack", "--json", "--ignore-scripts", "--pack-destination", folder],
        options,
      ).toString(),
    ) as { filename: string }[];
    const target = join(folder, "node_modules", published);
    await mkdir(target, { recursive: true });
    execFileSync("tar", ["-xzf", join(folder, packed?.filename ?? ""), "-C", target, "--strip-components=1"]);
  }
});
afterAll(() => rm(folder, { recursive: true }));

it("the packed packages hold every module they promise, and no tests", async () => {
  const manifest = JSON.parse(await readFile(join(folder, "node_modules/tenonsaw/package.json"), "utf8")) as {
    exports: Record<string, { types: string } | string>;
  };
  const modules = Object.entries(manifest.exports).filter(([, target]) => typeof target !== "string");
  expect(modules.length).toBeGreaterThan(8);
  const script = modules.map(([path]) => `await import("tenonsaw${path.slice(1)}");`).join("\n");
  await writeFile(join(folder, "all.mjs"), `${script}\nconsole.log("all there");`);
  expect((await start(join(folder, "all.mjs")).finished).output).toBe("all there\n");
  for (const [, target] of modules) {
    const { types } = target as { types: string };
    expect(await readFile(join(folder, "node_modules/tenonsaw", types), "utf8")).toMatch(/export/);
  }
  for (const [name, files] of [
    ["tenonsaw", ["LICENSE", "README.md", "THIRD-PARTY.md", "settings.schema.json"]],
    ["tenonsaw-practice", ["LICENSE", "README.md", "THIRD-PARTY.md"]],
  ] as const)
    expect(await readdir(join(folder, "node_modules", name))).toEqual(expect.arrayContaining([...files]));
  // A second copy of the library in one program knows the first one's problems.
  const copy = pathToFileURL(join(folder, "node_modules/tenonsaw/bundle/problem/index.js")).href;
  const { isProblem } = (await import(copy)) as { isProblem: (error: unknown, code: string) => boolean };
  expect(isProblem(new ProblemError("store.unavailable"), "store.unavailable")).toBe(true);
  const listing = execFileSync("find", [folder, "-name", "*.test.*"]).toString();
  expect(listing).toBe("");
});

it("from an empty folder, settings, sheet, check and try lead to a sign-in", async () => {
  const command = join(folder, "node_modules/tenonsaw/bin/tenonsaw.js");
  const [port, appPort] = [await freePorts(5), await freePorts(1)];
  const origin = `http://localhost:${appPort}`;
  const redirectUri = `${origin}/sign-in/from/quayside`;
  const practice = start(command, [
    "practice",
    "--port",
    String(port),
    "--redirect-uri",
    redirectUri,
    "--json",
  ]);
  const { issuer, clientId, clientSecret } = JSON.parse(await practice.waitFor("\n")) as Record<
    string,
    string
  >;
  const settings = join(folder, "tenonsaw.config.json");
  const quayside = {
    issuer,
    clientId,
    clientSecret: { env: "QUAYSIDE_SECRET" },
    scope: "openid profile tides.read",
  };
  await writeFile(settings, JSON.stringify({ origin, providers: { quayside } }));
  const env = {
    QUAYSIDE_SECRET: clientSecret ?? "",
    TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"),
  };
  const run = (...args: readonly string[]) => start(command, [...args, "--settings", settings], { env });

  expect((await run("sheet").finished).output).toContain(redirectUri);
  expect((await run("check").finished).output).toContain("Nothing is wrong.");
  const trying = run("try", "quayside");
  const said = await trying.waitFor("Waiting. Ctrl-C ends it.");
  const visitor = createVisitor();
  await visitor.open(/(http:\S+\/authorize\?\S+)/.exec(said)?.[1] ?? "");
  await visitor.press("Maren");
  await visitor.press("Yes, allow");
  const { code, output } = await trying.finished;
  expect([code, output]).toEqual([0, expect.stringContaining("Signed in.")]);
  practice.signal("SIGTERM");
  await practice.finished;
});

it("compiles for whoever uses it: without Node's types, by both ways to resolve, by the oldest TypeScript that is named", async () => {
  const program = `
import { beginSignIn, openProvider } from "tenonsaw";
import { createSignIn, passOn, type Session } from "tenonsaw/server";
import { followSession } from "tenonsaw/browser";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { startPractice } from "tenonsaw-practice";
export const signIn = await createSignIn({
  origin: "https://ferrywell.example",
  store: createMemoryStore(),
  providers: { quayside: { issuer: "https://id.quayside.example", clientId: "ferrywell" } },
  apis: { tidebook: { provider: "quayside", origin: "https://tidebook.example" } },
});
export const tides = async (session: Session<"quayside", "tidebook">) => passOn(await session.fetch("tidebook", "/"));
export const more = [beginSignIn, openProvider, followSession, startPractice, signIn.protect(() => new Response())];
`;
  await writeFile(join(folder, "app.ts"), program);
  const compilers = ["typescript", "oldest-typescript"].map((name) => `${root}node_modules/${name}/bin/tsc`);
  const ways = [
    { module: "nodenext", moduleResolution: "nodenext" },
    { module: "esnext", moduleResolution: "bundler" },
  ];
  const common = { noEmit: true, strict: true, target: "es2022", lib: ["es2023", "dom"], types: [] };
  for (const compiler of compilers)
    for (const way of ways) {
      const settings = { compilerOptions: { ...common, ...way }, files: ["app.ts"] };
      await writeFile(join(folder, "tsconfig.json"), JSON.stringify(settings));
      expect((await start(compiler, ["-p", folder]).finished).output).toBe("");
    }
});

it("is packed as registries and other tools expect it, and can be required and bundled", async () => {
  const found = await publint({ pkgDir: join(folder, "node_modules/tenonsaw"), pack: false });
  expect(found.messages.filter(({ type }) => type !== "suggestion")).toEqual([]);
  const required = join(folder, "required.cjs");
  await writeFile(required, 'console.log(typeof require("tenonsaw/server").createSignIn);');
  expect((await start(required).finished).output).toBe("function\n");
  const server = join(folder, "server.mjs");
  await writeFile(
    server,
    'import { openSqliteStore } from "tenonsaw/stores/sqlite";\nimport { createSignIn } from "tenonsaw/server";\nconsole.log(typeof createSignIn, typeof openSqliteStore);',
  );
  await build({
    configFile: false,
    logLevel: "silent",
    root: folder,
    ssr: { noExternal: true, external: ["libsql"] },
    build: { ssr: server, outDir: "bundled" },
  });
  expect((await start(join(folder, "bundled/server.js")).finished).output).toBe("function function\n");
});
