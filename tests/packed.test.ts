import { execFileSync } from "node:child_process";
import { mkdir, mkdtemp, readFile, rm, symlink, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, expect, it } from "vitest";
import { createVisitor } from "tenonsaw-practice";
import { freePorts, root, start } from "./support/processes.js";

const packages = { tenonsaw: "tenonsaw", practice: "tenonsaw-practice" };
let folder: string;

// A folder of a user's, with the packages as they would be published, and nothing else but the stores' drivers.
beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), "packed-"));
  await mkdir(join(folder, "node_modules"));
  for (const driver of ["libsql", "pg", "redis"])
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
