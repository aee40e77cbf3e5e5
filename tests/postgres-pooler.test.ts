import pg from "pg";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { openPostgresStore } from "tenonsaw/stores/postgres";
import { startPooler, startPostgres, type Server } from "../scripts/servers.mjs";
import { storeContract } from "../packages/tenonsaw/src/stores/contract.js";
import { noon } from "./support/fake-world.js";

const [programs, pooler] = [process.env["POSTGRES_PROGRAMS"], process.env["PGBOUNCER"]];
const limits = "statement_timeout,idle_in_transaction_session_timeout";

describe.skipIf(programs === undefined || pooler === undefined)(
  "the PostgreSQL store behind a pooler",
  () => {
    let server: Server;
    beforeAll(async () => {
      server = await startPostgres(programs ?? "");
    });
    afterAll(() => server.stop());
    const query = async (sql: string) => {
      const client = new pg.Client(server.url);
      await client.connect();
      await client.query(sql);
      await client.end();
    };

    describe.each([
      ["refuses what a connection begins with", ""],
      ["leaves it out", limits],
    ])("that %s", (_, ignored) => {
      let between: Server;
      beforeAll(async () => {
        between = await startPooler(pooler ?? "", server.url, ignored);
      });
      afterAll(() => between.stop());
      const open = async () => {
        await query("DROP SCHEMA IF EXISTS tenonsaw CASCADE");
        return openPostgresStore(between.url);
      };

      it.each(storeContract)("$name", ({ run }) => run(open));

      it("serves more at once than there are connections, and gives up what takes too long", async () => {
        const store = await open();
        const identity = { issuer: "https://id.quayside.example", subject: "qs-10231", provider: "quayside" };
        const session = { id: "s1", ...identity, createdAt: noon, expiresAt: 4_000_000_000 };
        await store.saveSignIn({ personId: "p1", profile: {}, identity, session });
        const found = await Promise.all(Array.from({ length: 60 }, () => store.findSession("s1")));
        expect(found.every((each) => each?.person.id === "p1")).toBe(true);
        // Somebody else holds the row: the server gives up waiting before the call's time is over.
        const other = new pg.Client(server.url);
        await other.connect();
        await other.query("BEGIN; SELECT 1 FROM tenonsaw.sessions FOR UPDATE");
        await expect(store.endSession("s1")).rejects.toMatchObject({
          problem: {
            code: "store.unavailable",
            received: expect.stringContaining("statement timeout") as string,
          },
        });
        await other.end();
        expect(await store.endSession("s1")).toEqual([]);
        await store.close();
      });
    });
  },
);
