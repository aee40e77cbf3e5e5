import { mkdtemp, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import Database from "libsql";
import { afterAll, beforeAll, expect, it } from "vitest";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { createVisitor, startPractice, type Practice } from "tenonsaw-practice";
import { start } from "./support/processes.js";
import { startApp, type App } from "./support/start-app.js";

let practice: Practice;
let app: App;
let folder: string;
let database: string;
let settings: string;

beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), "tenonsaw-sessions-"));
  [database, settings] = [join(folder, "ferrywell.db"), join(folder, "settings.json")];
  practice = await startPractice({ algorithm: "ES256" });
  app = await startApp(practice, {}, await openSqliteStore(database));
  const quayside = {
    issuer: practice.issuer,
    clientId: "ferrywell",
    clientSecret: { env: "QUAYSIDE_SECRET" },
  };
  await writeFile(settings, JSON.stringify({ origin: app.origin, providers: { quayside } }));
  for (const person of ["Maren", "Zoë", "Maren"]) {
    const visitor = createVisitor();
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
    await visitor.press(person);
    await visitor.press("Yes, allow");
  }
});
afterAll(async () => {
  await app.stop();
  await practice.stop();
  await rm(folder, { recursive: true });
});

const env = {
  QUAYSIDE_SECRET: "only-for-practice",
  TENONSAW_KEYS: Buffer.alloc(32, 7).toString("base64url"),
};
const run = (...args: readonly string[]) =>
  start(
    "packages/tenonsaw/bin/tenonsaw.js",
    ["sessions", ...args, "--settings", settings, "--store", database],
    {
      env,
    },
  ).finished;

it("shows what would act on a terminal as its code, in a name that an older program has kept", async () => {
  const hostile = "Mal\u001b[2J\nadmin  2026-01-01\u202e\u009b";
  const own = new Database(database);
  const rename = own.prepare("UPDATE people SET name = ? WHERE name = ?");
  rename.run(hostile, "Maren Holt");
  const { output } = await run("list");
  expect(output).toContain("Mal\\x1b[2J\\x0aadmin  2026-01-01\\u202e\\x9b");
  const json = await run("list", "--json");
  expect(json.output).not.toMatch(/[\u0080-\u009f\u202e\u001b]/);
  expect(JSON.parse(json.output)).toContainEqual(
    expect.objectContaining({ person: expect.objectContaining({ name: hostile }) as unknown }),
  );
  rename.run("Maren Holt", hostile);
  own.close();
});

it("lists who is signed in, shows one, and ends those that are chosen, their tokens taken back", async () => {
  const all = await run("list");
  expect([all.code, all.output]).toEqual([0, expect.stringContaining("3 sessions")]);
  expect(all.output.match(/Maren Holt/g)).toHaveLength(2);
  const zoe = JSON.parse((await run("list", "--person", "zo", "--json")).output) as { id: string }[];
  expect(zoe).toMatchObject([{ provider: "quayside", person: { name: "Zoë Łukasińska-Ōta" } }]);
  const id = zoe[0]?.id ?? "";
  const shown = await run("show", id.slice(0, 10));
  expect(shown.output).toMatch(
    /at quayside +active, allows openid profile email offline_access tides\.read, renewed 0 times/,
  );
  expect(shown.output + all.output).not.toMatch(/eyJ[\w-]+\./);
  expect((await run("list", "--older-than", "1")).output).toContain("0 sessions");
  const ended = await run("end", "--person", "Maren");
  expect([ended.code, ended.output]).toEqual([0, "2 sessions ended.\n"]);
  expect((await run("list", "--provider", "quayside")).output).toContain("1 session\n");
  expect((await run("end", id, "--json")).output).toBe(`${JSON.stringify({ ended: [id] })}\n`);
  expect((await run("end", "--person", "Maren")).code).toBe(1);
});

it("does not guess which session is meant, nor make a store that is not there", async () => {
  expect((await run("end")).errors).toContain("cli.session-unnamed");
  expect((await run("show", "nothing-like-it")).errors).toContain("0 sessions whose ID begins");
  const elsewhere = start("packages/tenonsaw/bin/tenonsaw.js", [
    "sessions",
    "list",
    "--store",
    join(folder, "no.db"),
  ]);
  expect((await elsewhere.finished).errors).toContain("no.db is not there");
  const at = async (store: string) =>
    (await start("packages/tenonsaw/bin/tenonsaw.js", ["sessions", "list", "--store", store]).finished)
      .errors;
  const [other, nobody] = await Promise.all([at("mysql://localhost/x"), at("redis://localhost:1")]);
  expect(other).toContain("or a URL that begins with redis:, rediss: or postgres:");
  expect(nobody).toMatch(/Redis at localhost:1: .*ECONNREFUSED/);
  expect((await start("packages/tenonsaw/bin/tenonsaw.js", ["sessions", "list"]).finished).code).toBe(2);
});

it("makes a store's tables before the app starts, or says that they are up to date", async () => {
  const place = join(folder, "new.db");
  const migrate = (...args: readonly string[]) =>
    start("packages/tenonsaw/bin/tenonsaw.js", ["migrate", "--store", place, ...args], { env }).finished;
  expect(await migrate()).toMatchObject({
    code: 0,
    output: expect.stringMatching(/^Made, at version \d+\.\n$/) as string,
  });
  expect(await migrate()).toMatchObject({ code: 0, output: "Up to date.\n" });
  const earlier = new Database(place);
  earlier.exec(
    "DROP TABLE counters; DROP TABLE kept_connections; ALTER TABLE attempts DROP COLUMN connect_for; DROP INDEX sessions_by_provider_session; DROP INDEX sessions_by_time; DROP INDEX sessions_by_provider; DROP INDEX connections_by_person; ALTER TABLE connections DROP COLUMN not_granted; ALTER TABLE connections DROP COLUMN sealed_replaced; ALTER TABLE connections DROP COLUMN renewed_under; ALTER TABLE connections DROP COLUMN sealed_context; ALTER TABLE sessions DROP COLUMN claims; PRAGMA user_version = 12",
  );
  earlier.close();
  expect(JSON.parse((await migrate("--json")).output)).toEqual({ migrated: { from: 12, to: 18 } });
});
