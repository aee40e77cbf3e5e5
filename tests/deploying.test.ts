import { spawn } from "node:child_process";
import { once } from "node:events";
import { mkdtemp, readFile, rm, symlink, writeFile } from "node:fs/promises";
import { createServer } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { pathToFileURL } from "node:url";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { toRequest, writeResponse } from "tenonsaw/node";
import { createVisitor, defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import { freePorts } from "../scripts/servers.mjs";
import { root, start } from "./support/processes.js";

let folder: string;
let origin: string;
let practice: Practice;
beforeEach(async () => {
  folder = await mkdtemp(join(tmpdir(), "deploying-"));
  origin = `http://localhost:${await freePorts(1)}`;
  practice = await startPractice({
    clients: [
      {
        ...defaultClient,
        redirectUris: [`${origin}/sign-in/from/quayside`],
        postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
      },
    ],
  });
  await start("packages/tenonsaw/bin/tenonsaw.js", ["init", "--folder", folder, "--framework", "node"])
    .finished;
  await symlink(`${root}node_modules`, join(folder, "node_modules"));
});
afterEach(async () => {
  await practice.stop();
  await rm(folder, { recursive: true });
});

/** The guide's programs, by the heading that they stand under. */
async function printed(heading: string): Promise<string> {
  const text = await readFile(`${root}docs/guide-deploying.md`, "utf8");
  return new RegExp(`## ${heading}\n[^#]*?\`\`\`js\n([\\s\\S]*?)\`\`\``).exec(text)?.[1] ?? "";
}

/** The first app, with its ends changed as the guide has it. */
async function write(name: string, change: (program: string) => string): Promise<string> {
  const moved = (text: string) =>
    text
      .replaceAll("5173", new URL(origin).port)
      .replaceAll("http://localhost:4600", practice.issuer)
      .replaceAll("http://localhost:4601", practice.tidebook);
  const settings = await readFile(join(folder, "tenonsaw.config.json"), "utf8");
  const following = settings.replace("{", '{ "sessionEventsSeconds": 1,');
  await writeFile(join(folder, "tenonsaw.config.json"), moved(following));
  const program = await readFile(join(folder, "server.mjs"), "utf8");
  const shared = program
    .replace("const signIn =", 'const store = openSqliteStore("app.db");\nconst signIn =')
    .replace('store: openSqliteStore("app.db")', "store");
  await writeFile(join(folder, name), moved(change(shared)));
  return join(folder, name);
}

async function signIn(): Promise<string> {
  const visitor = createVisitor();
  await visitor.open(`${origin}/sign-in/to/quayside`);
  await visitor.press("Maren");
  const page = await visitor.press("Yes, allow");
  expect(page.text).toContain("Sign out");
  return `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
}

describe("an app as docs/guide-deploying.md has it", () => {
  it("is ready, and ends when it is asked to, with pages that follow their session", async () => {
    const [health, end] = [await printed("A health check"), await printed("In a container")];
    await write("server.mjs", (program) => program.replace(/^createServer.*$/m, `${health}${end}`));
    const app = spawn(process.execPath, ["server.mjs"], { cwd: folder, stdio: "inherit" });
    const ended = once(app, "exit");
    try {
      const check = async () => (await fetch(`${origin}/health`)).text();
      await expect.poll(() => check().catch(() => "")).toBe("ready");
      const cookie = await signIn();
      const followed = await fetch(`${origin}/sign-in/session/events`, { headers: { cookie } });
      expect(followed.headers.get("content-type")).toBe("text/event-stream");
      app.kill("SIGTERM");
      await expect(followed.text()).rejects.toThrow();
      expect(await ended).toEqual([0, null]);
    } finally {
      app.kill("SIGKILL");
    }
  });

  it("is made anew for each request, and all that two requests share is in the store", async () => {
    const lines = (await printed("Functions that are made for each request")).split("\n");
    const program = await write("function.mjs", (text) =>
      text.replace(/^const signIn =.*$/m, lines[0] ?? "").replace(/^createServer.*$/m, lines[1] ?? ""),
    );
    await writeFile(program, (await readFile(program, "utf8")).replaceAll("app.db", join(folder, "app.db")));
    let made = 0;
    const before = process.cwd();
    process.chdir(folder);
    const server = createServer((incoming, outgoing) => {
      made += 1;
      const anew = import(/* @vite-ignore */ `${pathToFileURL(program).href}?${made}`) as Promise<{
        default: (request: Request) => Promise<Response>;
      }>;
      void anew
        .then((app) => app.default(toRequest(incoming, outgoing, { takeBody: true })))
        .then((response) => writeResponse(outgoing, response));
    }).listen(Number(new URL(origin).port), "localhost");
    await once(server, "listening");
    try {
      const cookie = await signIn();
      const read = () => fetch(`${origin}/tides`, { headers: { cookie } });
      expect((await read()).status).toBe(200);
      const { status } = await fetch(`${origin}/sign-in/out`, {
        method: "POST",
        redirect: "manual",
        headers: { cookie, origin },
      });
      expect(status).toBe(303);
      expect((await read()).status).not.toBe(200);
      expect(made).toBeGreaterThan(4);
    } finally {
      process.chdir(before);
      server.closeAllConnections();
      server.close();
    }
  });
});
