import { spawn } from "node:child_process";
import { mkdtemp, readFile, readdir, rm, stat, symlink, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { freePorts } from "../scripts/servers.mjs";
import { root, start } from "./support/processes.js";

const command = "packages/tenonsaw/bin/tenonsaw.js";
let folder: string;
beforeEach(async () => {
  folder = await mkdtemp(join(tmpdir(), "first-app-"));
});
afterEach(() => rm(folder, { recursive: true }));

const init = (...args: readonly string[]) => start(command, ["init", "--folder", folder, ...args]).finished;

/** The programs as the documentation prints them. */
async function printed(page: string): Promise<readonly (readonly [string, string])[]> {
  const text = await readFile(`${root}${page}`, "utf8");
  const blocks = text.matchAll(
    /<!-- code: packages\/cli\/src\/init\/first-app\/(\w+)\.mjs -->\s*```js\n([\s\S]*?)```/g,
  );
  return [...blocks].map(([, name = "", code = ""]) => [name, code]);
}

describe("a first app, as tenonsaw init writes it", () => {
  it.each([
    ["node", "README.md"],
    ["node", "docs/guide-node.md"],
    ["express", "docs/guide-express.md"],
    ["fastify", "docs/guide-fastify.md"],
    ["koa", "docs/guide-koa.md"],
    ["hono", "docs/guide-hono.md"],
  ])("in %s is what %s prints, and twenty lines at most", async (name, page) => {
    const [found] = await printed(page);
    expect(found?.[0]).toBe(name);
    const lines = found?.[1].split("\n").filter((line) => line.trim() !== "") ?? [];
    expect(lines.length).toBeLessThanOrEqual(20);
    expect((await init("--framework", name)).code).toBe(0);
    expect(await readFile(join(folder, "server.mjs"), "utf8")).toBe(found?.[1]);
  });

  it.each(["node", "express", "fastify", "koa", "hono"])(
    "in %s signs in unchanged, calls the API, refreshes and signs out",
    async (name) => {
      const port = await freePorts(1);
      const origin = `http://localhost:${port}`;
      const practice = await startPractice({
        lifetimes: { accessTokenSeconds: 2 },
        clients: [
          {
            ...defaultClient,
            redirectUris: [`${origin}/sign-in/from/quayside`],
            postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
          },
        ],
      });
      expect((await init("--framework", name, "--json")).code).toBe(0);
      // Only the ports are others.
      for (const file of ["tenonsaw.config.json", "server.mjs"]) {
        const text = await readFile(join(folder, file), "utf8");
        const moved = text
          .replaceAll("5173", String(port))
          .replaceAll("http://localhost:4600", practice.issuer)
          .replaceAll("http://localhost:4601", practice.tidebook);
        await writeFile(join(folder, file), moved);
      }
      await symlink(`${root}node_modules`, join(folder, "node_modules"));
      const running = spawn(process.execPath, ["server.mjs"], { cwd: folder, stdio: "inherit" });
      try {
        const isUp = () =>
          fetch(origin).then(
            ({ ok }) => ok,
            () => false,
          );
        await expect.poll(isUp).toBe(true);
        const visitor = createVisitor();
        await visitor.open(origin);
        await visitor.press("Sign in");
        await visitor.press("Sign in with Quayside ID");
        await visitor.press("Maren");
        const tides = async () => JSON.parse((await visitor.open(`${origin}/tides`)).text) as object;
        expect((await visitor.press("Yes, allow")).url).toBe(`${origin}/`);
        expect(await tides()).toMatchObject({ place: "Ferrywell landing" });
        await new Promise((resolve) => setTimeout(resolve, 2100));
        expect(await tides()).toMatchObject({ place: "Ferrywell landing" });
        await visitor.open(origin);
        await visitor.press("Sign out");
        expect((await visitor.open(origin)).text).toContain("Sign in");
      } finally {
        running.kill("SIGKILL");
        await practice.stop();
      }
    },
  );

  it("writes nothing over, keeps secrets to their owner, and takes no settings that do not hold", async () => {
    for (const issuer of ["http://id.quayside.example", "id.quayside.example"]) {
      const { code, errors } = await init("--issuer", issuer);
      const scheme = issuer.startsWith("http") ? `and is "${issuer}"` : "has no scheme";
      expect([code, errors]).toEqual([2, expect.stringMatching(`must be an https URL .*${scheme}`)]);
    }
    expect(await readdir(folder)).toEqual([]);
    await writeFile(join(folder, "app.keys"), "the only copy");
    const there = await init();
    expect([there.code, there.errors]).toEqual([2, expect.stringContaining("app.keys: there already")]);
    expect(await readdir(folder)).toEqual(["app.keys"]);
    await rm(join(folder, "app.keys"));
    const done = await init("--issuer", "https://id.quayside.example", "--client-id", "club");
    expect([done.code, done.output]).toEqual([0, expect.stringContaining("npx tenonsaw sheet")]);
    const modes = ["app.keys", "quayside.secret"].map(
      async (file) => (await stat(join(folder, file))).mode & 0o777,
    );
    expect(await Promise.all(modes)).toEqual([0o600, 0o600]);
    expect(JSON.parse(await readFile(join(folder, "tenonsaw.config.json"), "utf8"))).toMatchObject({
      providers: { quayside: { issuer: "https://id.quayside.example", clientId: "club" } },
    });
  });
});
