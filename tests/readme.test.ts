import { mkdtemp, readFile, rm, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { afterEach, describe, expect, it } from "vitest";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { freePorts, root, start } from "./support/processes.js";

const readme = await readFile(`${root}README.md`, "utf8");
const programs = [
  ...readme.matchAll(/<!-- code: examples\/(\S+)\/server\.js -->\s*```js\n([\s\S]*?)```/g),
].map(([, example = "", code = ""]) => ({ example, code }));

let folder: string | undefined;
afterEach(async () => {
  if (folder !== undefined) await rm(folder, { recursive: true });
});

describe("the README", () => {
  it("shows two programs of at most twenty lines each", () => {
    expect(programs.map(({ example }) => example)).toEqual(["smallest-node", "smallest-hono"]);
    for (const { code } of programs) {
      expect(code.split("\n").filter((line) => line.trim() !== "").length).toBeLessThanOrEqual(20);
    }
  });

  it.each(programs)(
    "shows in $example a program that signs in, calls the API and refreshes",
    async ({ example, code }) => {
      const port = await freePorts(1);
      const origin = `http://localhost:${port}`;
      const practice = await startPractice({
        lifetimes: { accessTokenSeconds: 2 },
        clients: [{ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] }],
      });
      // The program as printed; only its ports and its file are others.
      folder = await mkdtemp(`${root}examples/${example}/.trial-`);
      const program = code
        .replaceAll("5173", String(port))
        .replaceAll("http://localhost:4600", practice.issuer)
        .replaceAll("http://localhost:4601", practice.tidebook)
        .replaceAll("app.db", join(folder, "app.db"));
      await writeFile(join(folder, "server.mjs"), program);
      const running = start(join(folder, "server.mjs"), [], {
        env: {
          TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"),
          QUAYSIDE_SECRET: "only-for-practice",
        },
      });
      try {
        const visitor = createVisitor();
        await expect
          .poll(() =>
            fetch(origin).then(
              ({ status }) => status,
              () => 0,
            ),
          )
          .toBe(401);
        await visitor.open(origin);
        await visitor.press("Sign in with quayside");
        await visitor.press("Zoë");
        expect(JSON.parse((await visitor.press("Yes, allow")).text)).toMatchObject({
          place: "Ferrywell landing",
        });
        await new Promise((resolve) => setTimeout(resolve, 2100));
        expect(JSON.parse((await visitor.open(origin)).text)).toMatchObject({ place: "Ferrywell landing" });
      } finally {
        running.signal("SIGKILL");
        await running.finished;
        await practice.stop();
      }
    },
  );
});
