import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { mkdtemp, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import Database from "libsql";
import { afterAll, beforeAll, expect, it } from "vitest";
import { createConnections } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { createVisitor, defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import { companies, ledgerhouseAt } from "./support/ledgerhouse.js";
import { start } from "./support/processes.js";

let practice: Practice;
let folder: string;
let database: string;
let settings: string;
const server = createServer();
const env = {
  LEDGERHOUSE_SECRET: "only-for-practice",
  TENONSAW_KEYS: Buffer.alloc(32, 7).toString("base64url"),
};

beforeAll(async () => {
  Object.assign(process.env, env);
  folder = await mkdtemp(join(tmpdir(), "tenonsaw-connections-"));
  [database, settings] = [join(folder, "club.db"), join(folder, "settings.json")];
  practice = await startPractice();
  await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
  const origin = `http://localhost:${(server.address() as AddressInfo).port}`;
  const redirectUris = [`${origin}/sign-in/from/ledgerhouse`];
  practice.register({ ...defaultClient, redirectUris });
  const data = {
    origin,
    providers: { ledgerhouse: ledgerhouseAt(practice.ledger) },
    apis: { ledger: { provider: "ledgerhouse", origin: practice.ledger, sample: "/api/company" } },
    connections: { ledgerhouse: companies },
  } as const;
  await writeFile(settings, JSON.stringify(data));
  const store = await openSqliteStore(database);
  // An app with a log-in of its own: the cookie is the member.
  const connections = await createConnections({
    ...data,
    store,
    personOf: (request) => /member=([\w-]+)/.exec(request.headers.get("cookie") ?? "")?.[1],
  });
  server.on(
    "request",
    nodeListener(connections, () => new Response("Home")),
  );
  for (const [member, company] of [
    ["member-1", "Ferrywell Rowing Club"],
    ["member-1", "Ferrywell Boat Hire"],
    ["member-2", "Ferrywell Rowing Club"],
  ] as const) {
    const visitor = createVisitor();
    visitor.cookies.set("localhost", new Map([["member", member]]));
    await visitor.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/`);
    await visitor.press("Connect Ledgerhouse");
    await visitor.press("Ib");
    expect((await visitor.press(company)).text).toBe("Home");
  }
  await store.close();
});
afterAll(async () => {
  server.closeAllConnections();
  server.close();
  await practice.stop();
  await rm(folder, { recursive: true });
});

const tenonsaw = (...args: readonly string[]) =>
  start("packages/tenonsaw/bin/tenonsaw.js", [...args, "--settings", settings, "--store", database], { env })
    .finished;
const run = (...args: readonly string[]) => tenonsaw("connections", ...args);

it("lists what people have connected, shows one, tests and ends those that are chosen", async () => {
  const all = await run("list");
  expect([all.code, all.output]).toEqual([0, expect.stringContaining("3 connections")]);
  expect(all.output.match(/Ferrywell Rowing Club \(fw-club\) +in order +never/g)).toHaveLength(2);
  const of = async (...choice: readonly string[]) =>
    JSON.parse((await run("list", "--json", ...choice)).output) as { id: string; account: string }[];
  expect(await of("--person", "member-1")).toMatchObject([{ account: "fw-boats" }, { account: "fw-club" }]);
  expect(await of("--state", "needs-consent")).toEqual([]);
  const [boats] = await of("--account", "fw-boats", "--provider", "ledgerhouse");
  const shown = await run("show", boats!.id.slice(0, 10));
  expect(shown.output).toMatch(/account +Ferrywell Boat Hire {2}\(fw-boats\)/);
  expect(shown.output).toMatch(/allows +books\.read offline/);
  // One in 64 begins as an option does.
  const own = new Database(database);
  const rename = own.prepare("UPDATE kept_connections SET id = ? WHERE id = ?");
  rename.run(`-${boats!.id.slice(1)}`, boats!.id);
  expect((await run("show", `-${boats!.id.slice(1, 10)}`)).output).toContain("Ferrywell Boat Hire");
  rename.run(boats!.id, `-${boats!.id.slice(1)}`);
  own.close();
  const tested = await run("test");
  expect([
    tested.code,
    tested.output.match(/works {3}ledgerhouse .*GET \/api\/company of ledger → 200/g)?.length,
  ]).toEqual([0, 3]);
  const books = await tenonsaw(
    "call",
    "ledger",
    "/api/invoices",
    "--person",
    "member-1",
    "--account",
    "fw-boats",
  );
  expect([books.code, books.output]).toEqual([0, expect.stringContaining('"amount":45')]);
  const unclear = await tenonsaw("call", "ledger", "/api/invoices", "--person", "member-1");
  expect(unclear.errors).toContain("connection.account-unclear");
  const ended = await run("end", boats!.id);
  expect([ended.code, ended.output]).toEqual([0, "1 connection ended.\n"]);
  expect((await run("end", "--account", "fw-boats")).code).toBe(1);
  expect((await run("end")).errors).toContain("cli.connection-unnamed");
  expect((await run("show", boats!.id)).errors).toContain("cli.connection-unnamed");
  expect((await run("list", "--account", "fw-club", "--json")).output.match(/"id"/g)).toHaveLength(2);
});

it("tells which test failed and why, with its exit code", async () => {
  await practice.stop();
  const failed = await run("test", "--person", "member-2", "--json");
  expect(failed.code).toBe(1);
  expect(JSON.parse(failed.output)).toMatchObject([{ isRight: false }]);
});
