import { spawn } from "node:child_process";
import { mkdir, mkdtemp, readFile, rm, symlink, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { describe, expect, it } from "vitest";
import { openBrowser, pagesIn } from "./support/browsers.js";
import { freePorts } from "../scripts/servers.mjs";
import { root, start } from "./support/processes.js";

const guide = await readFile(`${root}docs/guide-pages.md`, "utf8");

/** The files that the guide prints for one of the two kinds, by their names. */
function printed(kind: "A" | "B"): readonly (readonly [string, string])[] {
  const blocks = guide.matchAll(/```jsx?\n\/\/ ([AB]): (\S+)\n([\s\S]*?)```/g);
  return [...blocks].filter(([, each]) => each === kind).map(([, , name = "", code = ""]) => [name, code]);
}

describe("the guide to pages", () => {
  it.each(["A", "B"] as const)("prints files of fifteen lines at most for kind %s", (kind) => {
    const files = printed(kind);
    expect(files).toHaveLength(2);
    for (const [, code] of files)
      expect(code.split("\n").filter((line) => line.trim() !== "").length).toBeLessThanOrEqual(15);
  });

  it.skipIf(pagesIn === undefined).each(["A", "B"] as const)(
    "brings a starter of Vite and React to signed in, as it stands, kind %s",
    async (kind) => {
      const first = await freePorts(9);
      const origin = `http://localhost:${first}`;
      const folder = await mkdtemp(join(tmpdir(), "starter-"));
      // Only the ports are others.
      const moved = (text: string) =>
        text
          .replaceAll("5173", String(first))
          .replaceAll("4600", String(first + 1))
          .replaceAll("4601", String(first + 2));
      const files = {
        "index.html": `<div id="root"></div><script type="module" src="/src/main.jsx"></script>`,
        "package.json": `{ "type": "module" }`,
        "vite.config.js": `import react from "@vitejs/plugin-react";\nexport default { plugins: [react()] };`,
        ...Object.fromEntries(printed(kind)),
      };
      for (const [name, text] of Object.entries(files)) {
        await mkdir(dirname(join(folder, name)), { recursive: true });
        await writeFile(join(folder, name), moved(text));
      }
      await symlink(`${root}node_modules`, join(folder, "node_modules"));
      const command = "packages/tenonsaw/bin/tenonsaw.js";
      const options =
        kind === "A" ? ["--redirect-uri", `${origin}/sign-in/from/quayside`] : ["--page-origin", origin];
      const practice = start(command, ["practice", "--json", "--port", String(first + 1), ...options]);
      if (kind === "A") {
        expect(
          (await start(command, ["init", "--folder", folder, "--framework", "express"]).finished).code,
        ).toBe(0);
        const settings = join(folder, "tenonsaw.config.json");
        await writeFile(settings, moved(await readFile(settings, "utf8")));
      }
      await practice.waitFor("issuer");
      const vite = spawn(
        process.execPath,
        [`${root}node_modules/vite/bin/vite.js`, "--port", String(first)],
        {
          cwd: folder,
          stdio: "ignore",
        },
      );
      const browser = await openBrowser();
      try {
        const page = await browser.newPage();
        await expect
          .poll(
            () =>
              fetch(origin)
                .then(({ ok }) => ok)
                .catch(() => false),
            { timeout: 60_000 },
          )
          .toBe(true);
        await page.goto(origin, { timeout: 60_000 });
        await page.getByRole("button", { name: /^Sign in/ }).click();
        await page.getByRole("button", { name: "Maren Holt" }).click();
        await page.getByRole("button", { name: "Yes, allow" }).click();
        await page.getByRole("heading", { name: "Good to see you, Maren Holt" }).waitFor();
        await page.getByText("Maren Holt").last().click();
        await page.getByRole("button", { name: "Sign out" }).first().click();
        await page.getByRole("button", { name: /^Sign in/ }).waitFor();
      } finally {
        await browser.close();
        vite.kill();
        practice.signal("SIGKILL");
        await practice.finished;
        await rm(folder, { recursive: true });
      }
    },
  );
});
