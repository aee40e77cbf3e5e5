import { parseUrl } from "../platform/index.js";
import pg from "pg";

import {
  attemptMemorySeconds,
  tombstoneOf,
  type AttemptRecord,
  type ConnectionRecord,
  type IdentityRecord,
  type KeptConnection,
  type PersonRecord,
  type SessionRecord,
  type SignInRecords,
  type Store,
} from "../session/index.js";
import { createBudget, keepsItsBudget, storeBudget, type Budget, type StoreCall } from "./budget.js";
import { refuseAddress, requireTableOptions } from "./given.js";
import { missingMigrations, type OpenStoreOptions, type SchemaState } from "./migration.js";
import { compatibleFrom, migrations } from "./postgres-schema.js";
import {
  connectionChanges,
  fromRow,
  fromSessionValues,
  partOf,
  sessionColumns,
  soughtColumns,
  toRow,
  toText,
  type Row,
  type SessionValues,
} from "./rows.js";

/** The server gives up a statement before the call's time is over, and says so. */
const statementMilliseconds = (storeBudget.deadlineSeconds - 1) * 1000;
/** A server that says nothing at all: the call is over by then, and its connection is thrown away. */
const silenceMilliseconds = (storeBudget.deadlineSeconds + 1) * 1000;
/** Bringing tables with millions of rows up to date takes its time. */
const migrationMilliseconds = 600_000;
/** Names the lock under which one process at a time migrates: any number will do that nobody else uses. */
const migrationLock = 7_306_094;

/**
 * Opens (or makes) a store in a PostgreSQL database, in tables of the schema `tenonsaw`. Many processes on many machines
 * may share it. Where the tables are up to date nothing is made, and the user needs no right to: `tenonsaw migrate` brings
 * them up to date as another user. Needs the package `pg` beside this one.
 *
 * @param url such as postgres://user@host/database; a password is better left to PGPASSWORD or a service file
 * @throws store.unavailable, store.newer-schema
 */
export async function openPostgresStore(url: string, options: OpenStoreOptions = {}): Promise<Store> {
  // Without a word, the driver would go by the environment's PGHOST and the like, or take it for the name of a host.
  if (typeof url !== "string" || !/^(postgres:|postgresql:|socket:|\/)/i.test(url))
    refuseAddress("PostgreSQL", url);
  requireTableOptions(options);
  const place = describePlace(url);
  const budget = createBudget(place);
  const once = createBudget(place, undefined, {
    ...storeBudget,
    deadlineSeconds: migrationMilliseconds / 1000,
  });
  const pools: pg.Pool[] = [];
  const makePool = (server: pg.PoolConfig) => {
    const pool = new pg.Pool({
      connectionString: url,
      max: 10,
      connectionTimeoutMillis: silenceMilliseconds,
      query_timeout: silenceMilliseconds,
      keepAlive: true,
      ...server,
    });
    // A connection may break at any moment, idle or in the middle of a transaction. The pool listens to the idle ones only,
    // and an error that nobody listens to would end the process; what was being asked fails by itself.
    pool.on("connect", (client) => client.on("error", () => undefined));
    pool.on("error", () => undefined);
    pools.push(pool);
    return pool;
  };
  try {
    const database = await once.ask(() => findDatabase(makePool));
    await once.ask((call) => migrate(place, database, call, options));
    return keepsItsBudget(createStore(database, budget.ask));
  } catch (error) {
    // Nobody waits for a server that may never answer.
    for (const pool of pools) pool.end().catch(() => undefined);
    throw error;
  }
}

/** A database, and whether each transaction may be on another of its connections: behind a pooler. */
interface Database {
  readonly pool: pg.Pool;
  readonly isPooled: boolean;
}

/** What the server itself is to give up. */
const serverLimits = {
  statement_timeout: statementMilliseconds,
  idle_in_transaction_session_timeout: statementMilliseconds,
} as const;

/** A pooler between here and the server refuses what a connection is to begin with, or leaves it out. */
async function findDatabase(makePool: (server: pg.PoolConfig) => pg.Pool): Promise<Database> {
  const direct = makePool(serverLimits);
  try {
    const { rows } = await direct.query<{ limit: string }>(
      "SELECT current_setting('statement_timeout') AS limit",
    );
    if (rows[0]?.limit === `${statementMilliseconds / 1000}s`) return { pool: direct, isPooled: false };
  } catch (error) {
    const isRefused = error instanceof Error && error.message.includes("unsupported startup parameter");
    if (!isRefused) throw error;
  }
  await direct.end();
  return { pool: makePool({}), isPooled: true };
}

/** Where a connection is another one next time, each transaction says its limits by itself. */
const limitedBegin = [
  "BEGIN",
  ...Object.entries(serverLimits).map(([name, value]) => `SET LOCAL ${name} = ${value}`),
].join("; ");

async function migrate(
  place: string,
  database: Database,
  call: StoreCall,
  { onMigrated }: OpenStoreOptions,
): Promise<void> {
  if (missingMigrations(place, await readSchema(database.pool), migrations).length === 0) return;
  await transact(database, call, async (client) => {
    const query = (text: string, ...values: unknown[]) =>
      client.query({
        text,
        ...(values.length > 0 && { values }),
        query_timeout: migrationMilliseconds,
      } as pg.QueryConfig);
    await query(`SET LOCAL statement_timeout = ${migrationMilliseconds}`);
    await query("SELECT pg_advisory_xact_lock($1)", migrationLock);
    // Read again: another process may have done it meanwhile.
    const state = await readSchema(client);
    const missing = missingMigrations(place, state, migrations);
    if (missing.length === 0) return;
    await client.query("CREATE SCHEMA IF NOT EXISTS tenonsaw");
    await client.query("CREATE TABLE IF NOT EXISTS tenonsaw.schema_version (version integer NOT NULL)");
    await client.query(
      "ALTER TABLE tenonsaw.schema_version ADD COLUMN IF NOT EXISTS compatible_from integer NOT NULL DEFAULT 0",
    );
    for (const migration of missing) await query(migration);
    await client.query("DELETE FROM tenonsaw.schema_version");
    await client.query("INSERT INTO tenonsaw.schema_version (version, compatible_from) VALUES ($1, $2)", [
      migrations.length,
      compatibleFrom,
    ]);
    onMigrated?.(state.version, migrations.length);
  });
}

async function readSchema(on: Querying): Promise<SchemaState> {
  // From the catalogue's own tables: functions such as to_regclass may answer from what this connection saw before.
  const { rows: found } = await on.query(
    "SELECT 1 FROM pg_catalog.pg_tables WHERE schemaname = 'tenonsaw' AND tablename = 'schema_version'",
  );

  if (found.length === 0) return { version: 0, compatibleFrom: 0 };
  const { rows } = await on.query<{ version: number; compatible_from?: number }>(
    "SELECT * FROM tenonsaw.schema_version",
  );
  const { version = 0, compatible_from = version } = rows[0] ?? {};
  return { version, compatibleFrom: compatible_from };
}

type Querying = Pick<pg.ClientBase, "query">;

function createStore(database: Database, ask: Budget["ask"]): Store {
  const { pool, isPooled } = database;
  const all = async (on: Querying, sql: string, ...values: unknown[]): Promise<unknown[]> =>
    (await on.query<Row>(sql, values)).rows.map(fromRow);
  const one = async (on: Querying, sql: string, ...values: unknown[]) => (await all(on, sql, ...values))[0];
  const run = async (on: Querying, sql: string, ...values: unknown[]) =>
    (await on.query(sql, values)).rowCount ?? 0;
  const insert = async (on: Querying, table: string, record: object, onConflict = "") => {
    const row = toRow(record);
    const names = Object.keys(row);
    const places = names.map((_, index) => `$${index + 1}`).join(", ");
    await run(
      on,
      `INSERT INTO tenonsaw.${table} (${names.join(", ")}) VALUES (${places}) ${onConflict}`,
      ...Object.values(row).map(withoutNul),
    );
  };
  /** @param name of a statement that the server is to keep prepared, where a connection stays the same */
  const sessionsWhere = async (where: string, values: unknown[], name?: string) => {
    const text = `SELECT ${sessionColumns} FROM tenonsaw.sessions s JOIN tenonsaw.people p ON p.id = s.person_id
      WHERE ${where}`;
    const query = {
      text,
      values,
      rowMode: "array",
      ...(!isPooled && name !== undefined && { name }),
    } as const;
    return (await pool.query<SessionValues[number][]>(query)).rows.map(fromSessionValues);
  };
  const identityOf = (on: Querying, { issuer, subject }: Pick<IdentityRecord, "issuer" | "subject">) =>
    one(
      on,
      "SELECT * FROM tenonsaw.identities WHERE issuer = $1 AND subject = $2",
      issuer,
      subject,
    ) as Promise<IdentityRecord | undefined>;
  const identitiesOf = (on: Querying, personId: string) =>
    all(
      on,
      "SELECT * FROM tenonsaw.identities WHERE person_id = $1 ORDER BY created_at, serial",
      personId,
    ) as Promise<IdentityRecord[]>;
  const noteIdentity = (on: Querying, identity: SignInRecords["identity"], personId: string, at: number) =>
    insert(
      on,
      "identities",
      { ...identity, personId, createdAt: at, lastSignInAt: at },
      "ON CONFLICT (issuer, subject) DO UPDATE SET last_sign_in_at = excluded.last_sign_in_at",
    );
  /** Two sign-ins of one identity wait for each other, so that there is one person. */
  const lockIdentity = (on: Querying, { issuer, subject }: Pick<IdentityRecord, "issuer" | "subject">) =>
    on.query("SELECT pg_advisory_xact_lock(hashtextextended($1, 0))", [`${issuer} ${subject}`]);
  const atomically = <Result>(work: (client: Querying) => Promise<Result>) =>
    ask((call) => transact(database, call, work));
  /** Whose connections are written to, and which sessions are ended, is settled by one after the other. */
  const lockPerson = async (on: Querying, personId: string) =>
    (await run(on, "SELECT 1 FROM tenonsaw.people WHERE id = $1 FOR UPDATE", personId)) === 1;
  const lockSession = (on: Querying, id: string) =>
    one(on, "SELECT * FROM tenonsaw.sessions WHERE id = $1 FOR UPDATE", id) as Promise<
      SessionRecord | undefined
    >;
  const dropSession = async (on: Querying, id: string) => {
    await lockSession(on, id);
    const held = await all(on, "DELETE FROM tenonsaw.connections WHERE session_id = $1 RETURNING *", id);
    await run(on, "DELETE FROM tenonsaw.sessions WHERE id = $1", id);
    return held as ConnectionRecord[];
  };

  const dropKeptWhere = async (on: Querying, where: string, ...values: unknown[]) =>
    (await all(
      on,
      `DELETE FROM tenonsaw.kept_connections WHERE ${where} RETURNING *`,
      ...values,
    )) as KeptConnection[];

  // Locks are taken in one order, by all: of an identity, of a person, of a session, of what it holds.
  return {
    addAttempt: (record, mostOpen) =>
      atomically(async (client) => {
        await insert(client, "attempts", record);
        await run(
          client,
          `DELETE FROM tenonsaw.attempts WHERE browser_hash = $1 AND used_at IS NULL AND id NOT IN (
            SELECT id FROM tenonsaw.attempts WHERE browser_hash = $1 AND used_at IS NULL
            ORDER BY began_at DESC, serial DESC LIMIT $2
          )`,
          record.browserHash,
          mostOpen,
        );
      }),
    findAttempt: (id) =>
      ask(
        () =>
          one(pool, "SELECT * FROM tenonsaw.attempts WHERE id = $1", id) as Promise<
            AttemptRecord | undefined
          >,
      ),
    useAttempt: (id, usedAt) =>
      ask(
        async () =>
          (await run(
            pool,
            "UPDATE tenonsaw.attempts SET used_at = $1 WHERE id = $2 AND used_at IS NULL",
            toText(usedAt),
            id,
          )) === 1,
      ),
    saveSignIn: ({ personId, profile, identity, session, connection, previousSessionId }) =>
      atomically(async (client) => {
        await lockIdentity(client, identity);
        const known = await identityOf(client, identity);
        if (known && (known.personId !== personId || !(await lockPerson(client, personId)))) return undefined;
        const person = { name: null, email: null, picture: null, ...profile, id: personId };
        await insert(
          client,
          "people",
          { ...person, createdAt: session.createdAt },
          "ON CONFLICT (id) DO UPDATE SET name = excluded.name, email = excluded.email, picture = excluded.picture",
        );
        await noteIdentity(client, identity, personId, session.createdAt);
        await insert(client, "sessions", { ...session, personId });
        if (connection) await insert(client, "connections", { ...connection, personId });
        let held: readonly ConnectionRecord[] = [];
        if (previousSessionId !== undefined) {
          await lockSession(client, previousSessionId);
          await run(
            client,
            "UPDATE tenonsaw.connections SET session_id = $1 WHERE session_id = $2 AND person_id = $3 AND provider <> $4",
            session.id,
            previousSessionId,
            personId,
            session.provider,
          );
          held = await dropSession(client, previousSessionId);
        }
        const written = await one(client, "SELECT * FROM tenonsaw.people WHERE id = $1", personId);
        return { person: written as PersonRecord, held };
      }),
    findSession: (id) =>
      ask(async () => {
        // One statement, one round trip: the person comes along in the same row.
        const [found] = await sessionsWhere("s.id = $1", [id], "tenonsaw-find-session");
        return found;
      }),
    findSessions: (query, part = {}) =>
      ask(async () => {
        const given = soughtColumns(query);
        const sought = given.map(([name], index) => `s.${name} = $${index + 1}`).join(" AND ") || "true";
        const place = (number: number) => `$${given.length + 1 + number}`;
        const { where, order, values } = partOf(
          part,
          ["tenonsaw.sessions", "s."],
          ["created_at", "serial"],
          place,
        );
        return sessionsWhere(sought + where + order, [...given.map(([, value]) => value), ...values]);
      }),
    findIdentity: (issuer, subject) => ask(() => identityOf(pool, { issuer, subject })),
    findIdentities: (personId) => ask(() => identitiesOf(pool, personId)),
    linkIdentity: ({ sessionId, identity, at, connection }) =>
      atomically(async (client) => {
        await lockIdentity(client, identity);
        const found = (await one(client, "SELECT * FROM tenonsaw.sessions WHERE id = $1", sessionId)) as
          SessionRecord | undefined;
        if (!found || !(await lockPerson(client, found.personId))) return { kind: "gone" };
        if (!(await lockSession(client, sessionId))) return { kind: "gone" };
        const { personId } = found;
        const known = await identityOf(client, identity);
        if (known && known.personId !== personId) return { kind: "taken" };
        await noteIdentity(client, identity, personId, at);
        if (!connection) return { kind: "linked", held: [] };
        const held = await all(
          client,
          "DELETE FROM tenonsaw.connections WHERE session_id = $1 AND provider = $2 AND subject = $3 RETURNING *",
          sessionId,
          connection.provider,
          connection.subject,
        );
        await insert(
          client,
          "connections",
          { ...connection, personId },
          "ON CONFLICT (session_id, provider) DO NOTHING",
        );
        return { kind: "linked", held: held as ConnectionRecord[] };
      }),
    unlinkIdentity: ({ personId, issuer, subject }, providers) =>
      atomically(async (client) => {
        await lockIdentity(client, { issuer, subject });
        // Two that unlink at once wait for each other: between them they could take both ways away.
        await lockPerson(client, personId);
        const own = await identitiesOf(client, personId);
        const gone = own.find((each) => each.issuer === issuer && each.subject === subject);
        if (!gone || !own.some((each) => each !== gone && providers.includes(each.provider)))
          return undefined;
        await run(
          client,
          "SELECT 1 FROM tenonsaw.sessions WHERE issuer = $1 AND subject = $2 ORDER BY id FOR UPDATE",
          issuer,
          subject,
        );
        const held = (await all(
          client,
          `DELETE FROM tenonsaw.connections WHERE person_id = $1 AND (
            (provider = $2 AND subject = $3) OR
            session_id IN (SELECT id FROM tenonsaw.sessions WHERE issuer = $4 AND subject = $3)) RETURNING *`,
          personId,
          gone.provider,
          subject,
          issuer,
        )) as ConnectionRecord[];
        await run(
          client,
          "DELETE FROM tenonsaw.sessions WHERE issuer = $1 AND subject = $2",
          issuer,
          subject,
        );
        await run(
          client,
          "DELETE FROM tenonsaw.identities WHERE issuer = $1 AND subject = $2",
          issuer,
          subject,
        );
        return held;
      }),
    changeSession: (id, changes) =>
      ask(async () => {
        const row = Object.entries(toRow(changes));
        const set = row.map(([name], index) => `${name} = $${index + 2}`).join(", ");
        const values = row.map(([, value]) => value);
        if (set) await run(pool, `UPDATE tenonsaw.sessions SET ${set} WHERE id = $1`, id, ...values);
      }),
    endSession: (id) => atomically((client) => dropSession(client, id)),
    useMark: (id, expiresAt, now) =>
      ask(
        async () =>
          (await run(
            pool,
            // Two of those that are over go for each that comes: beside a guard nobody else clears them away.
            `WITH over AS (SELECT id FROM tenonsaw.marks WHERE expires_at < $3 AND id <> $1
                ORDER BY expires_at LIMIT 2 FOR UPDATE SKIP LOCKED),
              gone AS (DELETE FROM tenonsaw.marks USING over WHERE tenonsaw.marks.id = over.id)
              INSERT INTO tenonsaw.marks AS m (id, expires_at) VALUES ($1, $2)
              ON CONFLICT (id) DO UPDATE SET expires_at = excluded.expires_at WHERE m.expires_at <= $3`,
            id,
            toText(expiresAt),
            toText(now),
          )) === 1,
      ),
    isMarked: (id, now) =>
      ask(async () => {
        const sql = "SELECT 1 FROM tenonsaw.marks WHERE id = $1 AND expires_at > $2";
        return (await run(pool, sql, id, toText(now))) === 1;
      }),
    takeLease: (name, owner, seconds, room = 0) =>
      atomically(async (client) => {
        await client.query("SELECT pg_advisory_xact_lock(hashtextextended($1, 1))", [name]);
        const before = (await one(
          client,
          "SELECT ends_at > clock_timestamp() AS is_held FROM tenonsaw.leases WHERE name = $1",
          name,
        )) as { readonly isHeld: boolean } | undefined;
        if (before?.isHeld === true) return { kind: "held" };
        const given = (await one(
          client,
          `INSERT INTO tenonsaw.leases (name, owner, ends_at, room)
            VALUES ($1, $2, clock_timestamp() + make_interval(secs => $3), $4)
            ON CONFLICT (name) DO UPDATE SET owner = excluded.owner, ends_at = excluded.ends_at,
              number = excluded.number, room = excluded.room
            RETURNING number::float8 AS number`,
          name,
          owner,
          seconds,
          " ".repeat(room),
        )) as { readonly number: number };
        return { kind: before ? "taken over" : "taken", number: given.number };
      }),
    releaseLease: (name, owner) =>
      ask(async () => {
        await run(pool, "DELETE FROM tenonsaw.leases WHERE name = $1 AND owner = $2", name, owner);
      }),
    removePerson: (personId) =>
      atomically(async (client) => {
        await lockPerson(client, personId);
        await run(
          client,
          "SELECT 1 FROM tenonsaw.sessions WHERE person_id = $1 ORDER BY id FOR UPDATE",
          personId,
        );
        const held = await all(
          client,
          "DELETE FROM tenonsaw.connections WHERE person_id = $1 RETURNING *",
          personId,
        );
        await run(client, "DELETE FROM tenonsaw.people WHERE id = $1", personId); // all that is theirs goes with them
        return [
          ...(held as ConnectionRecord[]),
          ...(await dropKeptWhere(client, "person_id = $1", personId)),
        ];
      }),
    keepConnection: (record) =>
      atomically(async (client) => {
        const { personId, provider, environment, account } = record;
        const same = [personId, provider, environment, account];
        // Two that connect one account at once: the later one holds.
        await client.query("SELECT pg_advisory_xact_lock(hashtextextended($1, 2))", [JSON.stringify(same)]);
        const where = "person_id = $1 AND provider = $2 AND environment = $3 AND account = $4";
        const before = await dropKeptWhere(client, where, ...same.map(withoutNul));
        await insert(client, "kept_connections", record);
        return before;
      }),
    findKept: (id) =>
      ask(
        () =>
          one(pool, "SELECT * FROM tenonsaw.kept_connections WHERE id = $1", id) as Promise<
            KeptConnection | undefined
          >,
      ),
    findAllKept: (query, part = {}) =>
      ask(async () => {
        const given = soughtColumns(query);
        const sought = given.map(([name], index) => `${name} = $${index + 1}`).join(" AND ") || "true";
        const place = (number: number) => `$${given.length + 1 + number}`;
        const { where, order, values } = partOf(
          part,
          ["tenonsaw.kept_connections", ""],
          ["connected_at", "serial"],
          place,
        );
        const sql = `SELECT * FROM tenonsaw.kept_connections WHERE ${sought}${where}${order}`;
        const parameters = [...given.map(([, value]) => value), ...values].map(withoutNul);
        return (await all(pool, sql, ...parameters)) as KeptConnection[];
      }),
    touchKept: (id, lastUsedAt) =>
      ask(async () => {
        const sql = "UPDATE tenonsaw.kept_connections SET last_used_at = $1 WHERE id = $2";
        await run(pool, sql, toText(lastUsedAt), id);
      }),
    dropKept: (id) => ask(async () => (await dropKeptWhere(pool, "id = $1", id))[0]),
    findConnection: (sessionId, provider) =>
      ask(
        () =>
          one(
            pool,
            "SELECT * FROM tenonsaw.connections WHERE session_id = $1 AND provider = $2",
            sessionId,
            provider,
          ) as Promise<ConnectionRecord | undefined>,
      ),
    replaceConnection: (record, lease) =>
      ask(async () => {
        const changes = connectionChanges(record);
        const set = changes.map(([name], index) => `${name} = $${index + 1}`).join(", ");
        const values = [...changes.map(([, value]) => value), record.id, record.version - 1];
        const where = `WHERE id = $${values.length - 1} AND version = $${values.length}`;
        // One statement: the row of the lease stays as it is while the connection is written.
        const under = `AND EXISTS (SELECT 1 FROM tenonsaw.leases
          WHERE name = $${values.length + 1} AND number = $${values.length + 2} FOR SHARE)`;
        const table = record.sessionId === undefined ? "kept_connections" : "connections";
        const sql = `UPDATE tenonsaw.${table} SET ${set} ${where} ${lease ? under : ""}`;
        return (await run(pool, sql, ...values, ...(lease ? [lease.name, lease.number] : []))) === 1;
      }),
    sweep: (now, most) =>
      atomically(async (client) => {
        const over = toText(now + 1);
        const takeOver = async (table: string) =>
          (await all(
            client,
            `SELECT id, expires_at FROM tenonsaw.${table} WHERE expires_at < $1 ORDER BY id LIMIT $2 FOR UPDATE SKIP LOCKED`,
            over,
            most,
          )) as { readonly id: string; readonly expiresAt: number }[];
        const drop = async (table: string, rows: readonly { readonly id: string }[]) => {
          await run(
            client,
            `DELETE FROM tenonsaw.${table} WHERE id = ANY($1)`,
            rows.map(({ id }) => id),
          );
        };
        await drop("marks", await takeOver("marks"));
        await run(
          client,
          "DELETE FROM tenonsaw.leases WHERE ends_at <= clock_timestamp() - interval '1 day'",
        );
        const [attempts, sessions] = [await takeOver("attempts"), await takeOver("sessions")];
        const held = await all(
          client,
          "DELETE FROM tenonsaw.connections WHERE session_id = ANY($1) RETURNING *",
          sessions.map(({ id }) => id),
        );
        await drop("attempts", attempts);
        await drop("sessions", sessions);
        await run(
          client,
          `INSERT INTO tenonsaw.marks (id, expires_at) SELECT * FROM unnest($1::text[], $2::timestamptz[])
            ON CONFLICT (id) DO NOTHING`,
          attempts.map(({ id }) => tombstoneOf(id)),
          attempts.map(({ expiresAt }) => toText(expiresAt + attemptMemorySeconds)),
        );
        return { count: attempts.length + sessions.length, held: held as ConnectionRecord[] };
      }),
    close: () => (pool.ended ? Promise.resolve() : ask(() => pool.end())),
  };
}

/**
 * @param call when its time is over, nothing more is asked, and what was done so far is not kept
 */
async function transact<Result>(
  { pool, isPooled }: Database,
  call: StoreCall,
  work: (client: Querying) => Promise<Result>,
): Promise<Result> {
  const client = await pool.connect();
  let broken: Error | undefined;
  const ask = ((text: string, values?: unknown[]) => {
    if (call.isOver) throw new RangeError("the time of this call is over");
    return client.query(text, values);
  }) as Querying["query"];
  try {
    await ask(isPooled ? limitedBegin : "BEGIN");
    const result = await work({ query: ask });
    await ask("COMMIT");
    return result;
  } catch (error) {
    // What cannot be rolled back is thrown away with its connection, and the server rolls it back.
    if (call.isOver || !isFromServer(error)) broken = error as Error;
    else
      await client.query("ROLLBACK").catch((reason: unknown) => {
        broken = reason as Error;
      });
    throw error;
  } finally {
    client.release(broken);
  }
}

/** The server itself has said so (SQLSTATE), and the connection stands. */
function isFromServer(error: unknown): boolean {
  const { code } = (error ?? {}) as { readonly code?: unknown };
  return typeof code === "string" && /^[0-9A-Z]{5}$/.test(code) && !code.startsWith("57P");
}

/** Host, port and database: never the password. */
function describePlace(url: string): string {
  const parsed = parseUrl(url);
  if (!parsed) return "PostgreSQL at (not a URL)";
  const { host, pathname } = parsed;
  return `PostgreSQL at ${host || "the local socket"}${pathname}`;
}

/** PostgreSQL keeps no NUL in a text; it is shown as what stands for the unreadable. */
function withoutNul(value: unknown): unknown {
  return typeof value === "string" ? value.replaceAll("\u0000", "\ufffd") : value;
}

export type { OpenStoreOptions } from "./migration.js";
