import { mkdtemp, readFile, rm, writeFile } from "node:fs/promises";
import { join } from "node:path";
import Database from "libsql";
import { expect, it } from "vitest";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { freePorts, root, start } from "./support/processes.js";

it("finds people in a user table of the app's own, asks newcomers for more, and refuses whom it blocks", async () => {
  const port = await freePorts(1);
  const origin = `http://localhost:${port}`;
  const practice = await startPractice({
    clients: [{ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] }],
  });
  const folder = await mkdtemp(`${root}examples/own-members/.trial-`);
  const program = (await readFile(`${root}examples/own-members/server.js`, "utf8"))
    .replaceAll("5173", String(port))
    .replaceAll("http://localhost:4600", practice.issuer)
    .replaceAll("app.db", join(folder, "app.db"))
    .replaceAll("members.db", join(folder, "members.db"));
  await writeFile(join(folder, "server.mjs"), program);
  const running = start(join(folder, "server.mjs"), [], {
    env: { TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"), QUAYSIDE_SECRET: "only-for-practice" },
  });
  try {
    await expect
      .poll(() =>
        fetch(origin).then(
          ({ status }) => status,
          () => 0,
        ),
      )
      .toBe(401);
    const members = new Database(join(folder, "members.db"));
    const add = members.prepare("INSERT INTO members VALUES (?, ?, ?, ?, ?)");
    add.run(41, "Heron", practice.issuer, "qs-10447", 0);
    add.run(42, "Adder", practice.issuer, "qs-10009", 1);
    const signIn = async (person: string) => {
      const visitor = createVisitor();
      await visitor.open(origin);
      await visitor.press("Sign in with quayside");
      await visitor.press(person);
      await visitor.press("Yes, allow");
      return visitor;
    };
    const known = await signIn("Zoë");
    expect(JSON.parse(known.page?.text ?? "")).toEqual({
      name: "Zoë Łukasińska-Ōta",
      number: 41,
      boat: "Heron",
    });
    const blocked = await signIn("Ib");
    expect(blocked.page?.text).toContain("(session.person-refused)");
    const newcomer = await signIn("Maren");
    expect(newcomer.page?.url).toBe(`${origin}/welcome?returnTo=%2F`);
    await newcomer.post(`${origin}/boat`, { boat: "Kingfisher", returnTo: "/" });
    expect(JSON.parse(newcomer.page?.text ?? "")).toEqual({
      name: "Maren Holt",
      number: 43,
      boat: "Kingfisher",
    });
    members.close();
  } finally {
    running.signal("SIGKILL");
    await running.finished;
    await practice.stop();
    await rm(folder, { recursive: true });
  }
});
