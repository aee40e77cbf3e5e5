import pg from "pg";

import type {
  AttemptRecord,
  ConnectionRecord,
  IdentityRecord,
  PersonRecord,
  SessionRecord,
  SignInRecords,
  Store,
} from "../session/index.js";
import { guarded } from "./guarded.js";
import { missingMigrations, type OpenStoreOptions, type SchemaState } from "./migration.js";
import { compatibleFrom, migrations } from "./postgres-schema.js";
import {
  fromRow,
  fromSessionValues,
  sessionColumns,
  soughtColumns,
  toRow,
  toText,
  type Row,
  type SessionValues,
} from "./rows.js";

/** No statement waits longer than this for a lock or an answer, in milliseconds. */
const statementMilliseconds = 10_000;
/** Names the lock under which one process at a time migrates: any number will do that nobody else uses. */
const migrationLock = 7_306_094;

/**
 * Opens (or makes) a store in a PostgreSQL database, in tables of the schema `tenonsaw`. Many processes on many machines
 * may share it. Needs the package `pg` beside this one.
 *
 * @param url such as postgres://user@host/database; a password is better left to PGPASSWORD or a service file
 * Where the tables are up to date nothing is made, and the user needs no right to: `tenonsaw migrate` brings them up to
 * date as another user.
 *
 * @throws store.unavailable, store.newer-schema
 */
export async function openPostgresStore(url: string, options: OpenStoreOptions = {}): Promise<Store> {
  const pool = new pg.Pool({
    connectionString: url,
    max: 10,
    connectionTimeoutMillis: 5000,
    statement_timeout: statementMilliseconds,
    idle_in_transaction_session_timeout: statementMilliseconds,
  });
  const place = describePlace(url);
  // A connection that breaks while it is idle is replaced by the next one; the break itself is nobody's failure.
  pool.on("error", () => undefined);
  await guarded(place, () => migrate(place, pool, options));
  return createStore(place, pool);
}

async function migrate(place: string, pool: pg.Pool, { onMigrated }: OpenStoreOptions): Promise<void> {
  if (missingMigrations(place, await readSchema(pool), migrations).length === 0) return;
  await transact(pool, async (client) => {
    await client.query("SELECT pg_advisory_xact_lock($1)", [migrationLock]);
    // Read again: another process may have done it meanwhile.
    const state = await readSchema(client);
    const missing = missingMigrations(place, state, migrations);
    if (missing.length === 0) return;
    await client.query("CREATE SCHEMA IF NOT EXISTS tenonsaw");
    await client.query("CREATE TABLE IF NOT EXISTS tenonsaw.schema_version (version integer NOT NULL)");
    await client.query(
      "ALTER TABLE tenonsaw.schema_version ADD COLUMN IF NOT EXISTS compatible_from integer NOT NULL DEFAULT 0",
    );
    for (const migration of missing) await client.query(migration);
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

function createStore(place: string, pool: pg.Pool): Store {
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
  /** @param name of a statement that the server is to keep prepared */
  const sessionsWhere = async (where: string, values: unknown[], name?: string) => {
    const text = `SELECT ${sessionColumns} FROM tenonsaw.sessions s JOIN tenonsaw.people p ON p.id = s.person_id
      WHERE ${where}`;
    const query = { text, values, rowMode: "array", ...(name !== undefined && { name }) } as const;
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
    guarded(place, () => transact(pool, work));
  const reading = <Result>(work: () => Promise<Result>) => guarded(place, work);

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
      reading(
        () =>
          one(pool, "SELECT * FROM tenonsaw.attempts WHERE id = $1", id) as Promise<
            AttemptRecord | undefined
          >,
      ),
    useAttempt: (id, usedAt) =>
      reading(
        async () =>
          (await run(
            pool,
            "UPDATE tenonsaw.attempts SET used_at = $1 WHERE id = $2 AND used_at IS NULL",
            toText(usedAt),
            id,
          )) === 1,
      ),
    saveSignIn: ({ newPersonId, profile, identity, session, connection, previousSessionId }) =>
      atomically(async (client) => {
        await lockIdentity(client, identity);
        const personId = (await identityOf(client, identity))?.personId ?? newPersonId;
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
        if (previousSessionId !== undefined) {
          await run(
            client,
            "UPDATE tenonsaw.connections SET session_id = $1 WHERE session_id = $2 AND person_id = $3 AND provider <> $4",
            session.id,
            previousSessionId,
            personId,
            session.provider,
          );
          await run(client, "DELETE FROM tenonsaw.sessions WHERE id = $1", previousSessionId);
        }
        return (await one(client, "SELECT * FROM tenonsaw.people WHERE id = $1", personId)) as PersonRecord;
      }),
    findSession: (id) =>
      reading(async () => {
        // One statement, one round trip: the person comes along in the same row.
        const [found] = await sessionsWhere("s.id = $1", [id], "tenonsaw-find-session");
        return found;
      }),
    findSessions: (query) =>
      reading(async () => {
        const given = soughtColumns(query);

        const where = given.map(([name], index) => `s.${name} = $${index + 1}`).join(" AND ") || "true";
        return sessionsWhere(
          `${where} ORDER BY s.created_at DESC, s.serial DESC LIMIT 1000`,
          given.map(([, value]) => value),
        );
      }),
    findIdentity: (issuer, subject) => reading(() => identityOf(pool, { issuer, subject })),
    findIdentities: (personId) => reading(() => identitiesOf(pool, personId)),
    linkIdentity: ({ sessionId, identity, at, connection }) =>
      atomically(async (client) => {
        await lockIdentity(client, identity);
        const session = (await one(
          client,
          "SELECT * FROM tenonsaw.sessions WHERE id = $1 FOR UPDATE",
          sessionId,
        )) as SessionRecord | undefined;
        if (!session) return "gone";
        const { personId } = session;
        const known = await identityOf(client, identity);
        if (known && known.personId !== personId) return "taken";
        await noteIdentity(client, identity, personId, at);
        if (connection) {
          await run(
            client,
            "DELETE FROM tenonsaw.connections WHERE session_id = $1 AND provider = $2 AND subject = $3",
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
        }
        return "linked";
      }),
    unlinkIdentity: ({ personId, issuer, subject }, providers) =>
      atomically(async (client) => {
        // Two that unlink at once wait for each other: between them they could take both ways away.
        await run(client, "SELECT 1 FROM tenonsaw.people WHERE id = $1 FOR UPDATE", personId);
        const own = await identitiesOf(client, personId);
        const gone = own.find((each) => each.issuer === issuer && each.subject === subject);
        if (!gone || !own.some((each) => each !== gone && providers.includes(each.provider)))
          return undefined;
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
    touchSession: (id, lastSeenAt) =>
      reading(async () => {
        await run(
          pool,
          "UPDATE tenonsaw.sessions SET last_seen_at = $1 WHERE id = $2",
          toText(lastSeenAt),
          id,
        );
      }),
    endSession: (id) =>
      atomically(async (client) => {
        const held = await all(
          client,
          "DELETE FROM tenonsaw.connections WHERE session_id = $1 RETURNING *",
          id,
        );
        await run(client, "DELETE FROM tenonsaw.sessions WHERE id = $1", id);
        return held as ConnectionRecord[];
      }),
    useMark: (id, expiresAt, now) =>
      reading(
        async () =>
          (await run(
            pool,
            `INSERT INTO tenonsaw.marks AS m (id, expires_at) VALUES ($1, $2)
              ON CONFLICT (id) DO UPDATE SET expires_at = excluded.expires_at WHERE m.expires_at <= $3`,
            id,
            toText(expiresAt),
            toText(now),
          )) === 1,
      ),
    isMarked: (id, now) =>
      reading(async () => {
        const sql = "SELECT 1 FROM tenonsaw.marks WHERE id = $1 AND expires_at > $2";
        return (await run(pool, sql, id, toText(now))) === 1;
      }),
    takeLease: (name, owner, seconds) =>
      atomically(async (client) => {
        await client.query("SELECT pg_advisory_xact_lock(hashtextextended($1, 1))", [name]);
        const before = (await one(
          client,
          "SELECT ends_at > clock_timestamp() AS is_held FROM tenonsaw.leases WHERE name = $1",
          name,
        )) as { readonly isHeld: boolean } | undefined;
        if (before?.isHeld === true) return "held";
        await run(
          client,
          `INSERT INTO tenonsaw.leases (name, owner, ends_at) VALUES ($1, $2, clock_timestamp() + make_interval(secs => $3))
            ON CONFLICT (name) DO UPDATE SET owner = excluded.owner, ends_at = excluded.ends_at`,
          name,
          owner,
          seconds,
        );
        return before ? "taken over" : "taken";
      }),
    releaseLease: (name, owner) =>
      reading(async () => {
        await run(pool, "DELETE FROM tenonsaw.leases WHERE name = $1 AND owner = $2", name, owner);
      }),
    removePerson: (personId) =>
      atomically(async (client) => {
        const held = await all(
          client,
          "DELETE FROM tenonsaw.connections WHERE person_id = $1 RETURNING *",
          personId,
        );
        await run(client, "DELETE FROM tenonsaw.people WHERE id = $1", personId); // all that is theirs goes with them
        return held as ConnectionRecord[];
      }),
    findConnection: (sessionId, provider) =>
      reading(
        () =>
          one(
            pool,
            "SELECT * FROM tenonsaw.connections WHERE session_id = $1 AND provider = $2",
            sessionId,
            provider,
          ) as Promise<ConnectionRecord | undefined>,
      ),
    replaceConnection: (record) =>
      atomically(async (client) => {
        const sql = "DELETE FROM tenonsaw.connections WHERE id = $1 AND version = $2 RETURNING session_id";
        const stored = (await one(client, sql, record.id, record.version - 1)) as
          Pick<ConnectionRecord, "sessionId"> | undefined;
        if (!stored) return false;
        await insert(client, "connections", { ...record, ...stored });
        return true;
      }),
    sweep: (now, attemptsBefore, most) =>
      reading(async () => {
        const sweep = (table: string, before: string) =>
          run(
            pool,
            `DELETE FROM tenonsaw.${table} WHERE id IN (
              SELECT id FROM tenonsaw.${table} WHERE expires_at < $1 LIMIT $2 FOR UPDATE SKIP LOCKED
            )`,
            before,
            most,
          );
        const over = toText(now + 1);
        await sweep("marks", over);
        await run(pool, "DELETE FROM tenonsaw.leases WHERE ends_at <= clock_timestamp() - interval '1 day'");
        return (await sweep("attempts", toText(attemptsBefore))) + (await sweep("sessions", over));
      }),
    close: () => reading(() => pool.end()),
  };
}

async function transact<Result>(pool: pg.Pool, work: (client: Querying) => Promise<Result>): Promise<Result> {
  const client = await pool.connect();
  let broken: Error | undefined;
  try {
    await client.query("BEGIN");
    const result = await work(client);
    await client.query("COMMIT");
    return result;
  } catch (error) {
    // What cannot be rolled back is thrown away with its connection, and the server rolls it back.
    await client.query("ROLLBACK").catch((reason: unknown) => {
      broken = reason instanceof Error ? reason : undefined;
    });
    throw error;
  } finally {
    client.release(broken);
  }
}

/** Host, port and database: never the password. */
function describePlace(url: string): string {
  if (!URL.canParse(url)) return "PostgreSQL at (not a URL)";
  const { host, pathname } = new URL(url);
  return `PostgreSQL at ${host || "the local socket"}${pathname}`;
}

/** PostgreSQL keeps no NUL in a text; it is shown as what stands for the unreadable. */
function withoutNul(value: unknown): unknown {
  return typeof value === "string" ? value.replaceAll("\u0000", "\ufffd") : value;
}

export type { OpenStoreOptions } from "./migration.js";
