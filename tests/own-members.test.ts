import { join } from "node:path";
import Database from "libsql";
import { expect, it } from "vitest";
import { createVisitor } from "tenonsaw-practice";
import { startExample } from "./support/start-example.js";

it("finds people in a user table of the app's own, asks newcomers for more, and refuses whom it blocks", async () => {
  const { origin, practice, folder, stop } = await startExample("own-members", "quayside");
  try {
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
    await stop();
  }
});
