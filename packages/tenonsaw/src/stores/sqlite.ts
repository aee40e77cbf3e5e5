import Database from "libsql";
import { fail, ProblemError } from "../problem/index.js";
import type {
  AttemptRecord,
  ConnectionRecord,
  IdentityRecord,
  PersonRecord,
  SessionRecord,
  SignInRecords,
  Store,
} from "../session/index.js";
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
import { missingMigrations, type OpenStoreOptions, type SchemaState } from "./migration.js";

import { compatibleFrom, migrations } from "./sqlite-schema.js";

/**
 * Opens (or makes) a store in one SQLite file. Several processes of one machine may share it. Needs the package
 * `libsql` beside this one.
 *
 * @param path the file, or ":memory:"
 * @throws store.unavailable, store.newer-schema
 */
export async function openSqliteStore(path: string, options: OpenStoreOptions = {}): Promise<Store> {
  return Promise.resolve().then(() => guarded(path, () => createStore(path, openDatabase(path, options))));
}

function openDatabase(path: string, { onMigrated }: OpenStoreOptions): Database.Database {
  const database = new Database(path);
  database.pragma("journal_mode = WAL");
  database.pragma("synchronous = FULL"); // a refresh token that rotated must survive a power cut
  database.pragma("busy_timeout = 5000");
  database.pragma("mmap_size = 1073741824"); // reads among a million sessions without a system call for each page
  database.pragma("foreign_keys = ON");
  const migrate = () => {
    const state = readSchema(database);
    const missing = missingMigrations(path, state, migrations);
    if (missing.length === 0) return;
    for (const migration of missing) database.exec(migration);
    database.exec("DELETE FROM schema_compatibility");
    database.exec(`INSERT INTO schema_compatibility VALUES (${compatibleFrom})`);
    database.exec(`PRAGMA user_version = ${migrations.length}`);
    onMigrated?.(state.version, migrations.length);
  };
  database.transaction(migrate).immediate();
  return database;
}

function readSchema(database: Database.Database): SchemaState {
  const { user_version: version } = database.prepare("PRAGMA user_version").get() as { user_version: number };
  if (version <= migrations.length) return { version, compatibleFrom: 0 };
  const says = database.prepare("SELECT 1 FROM sqlite_master WHERE name = 'schema_compatibility'").get();
  const row = says && database.prepare("SELECT compatible_from FROM schema_compatibility").get();
  const { compatible_from = version } = (row ?? {}) as { readonly compatible_from?: number };
  return { version, compatibleFrom: compatible_from };
}

const sessionsWhere = `SELECT ${sessionColumns} FROM sessions s JOIN people p ON p.id = s.person_id WHERE`;

function createStore(path: string, database: Database.Database): Store {
  // At hand and without names: it is read with every request.
  const sessionById = database.prepare(`${sessionsWhere} s.id = ?`).raw();
  const statements = new Map<string, Database.Statement>();
  const prepared = (sql: string) => {
    const statement = statements.get(sql) ?? database.prepare(sql);
    statements.set(sql, statement);
    return statement;
  };
  const one = (sql: string, ...values: unknown[]): unknown => {
    const row = prepared(sql).get(...values) as Row | undefined;
    return row && fromRow(row);
  };
  const all = (sql: string, ...values: unknown[]): unknown[] =>
    (prepared(sql).all(...values) as Row[]).map(fromRow);
  const run = (sql: string, ...values: unknown[]) => prepared(sql).run(...values).changes;
  const insert = (table: string, record: object, onConflict = "") => {
    const row = toRow(record);
    const names = Object.keys(row);
    run(
      `INSERT INTO ${table} (${names.join(", ")}) VALUES (${names.map(() => "?").join(", ")}) ${onConflict}`,
      ...Object.values(row),
    );
  };
  const identityOf = ({ issuer, subject }: Pick<IdentityRecord, "issuer" | "subject">) =>
    one("SELECT * FROM identities WHERE issuer = ? AND subject = ?", issuer, subject) as
      IdentityRecord | undefined;
  const noteIdentity = (identity: SignInRecords["identity"], personId: string, at: number) => {
    insert(
      "identities",
      { ...identity, personId, createdAt: at, lastSignInAt: at },
      "ON CONFLICT (issuer, subject) DO UPDATE SET last_sign_in_at = excluded.last_sign_in_at",
    );
  };
  const identitiesOf = (personId: string) =>
    all(
      "SELECT * FROM identities WHERE person_id = ? ORDER BY created_at, rowid",
      personId,
    ) as IdentityRecord[];
  /** One atomic piece of work; the library's synchronous calls make it a single turn of the event loop. */
  // Async, though nothing is awaited: the driver is synchronous, and a failure is to reject.
  // eslint-disable-next-line @typescript-eslint/require-await
  const reading = async <Result>(work: () => Result): Promise<Result> => guarded(path, work);
  const atomically = <Result>(work: () => Result): Promise<Result> =>
    reading(() => database.transaction(work).immediate());

  return {
    addAttempt: (record, mostOpen) =>
      atomically(() => {
        insert("attempts", record);
        run(
          `DELETE FROM attempts WHERE browser_hash = ?1 AND used_at IS NULL AND id NOT IN (
            SELECT id FROM attempts WHERE browser_hash = ?1 AND used_at IS NULL
            ORDER BY began_at DESC, rowid DESC LIMIT ?2
          )`,
          record.browserHash,
          mostOpen,
        );
      }),
    findAttempt: (id) =>
      reading(() => one("SELECT * FROM attempts WHERE id = ?", id) as AttemptRecord | undefined),
    useAttempt: (id, usedAt) =>
      atomically(
        () =>
          run("UPDATE attempts SET used_at = ? WHERE id = ? AND used_at IS NULL", toText(usedAt), id) === 1,
      ),
    saveSignIn: ({ newPersonId, profile, identity, session, connection, previousSessionId }) =>
      atomically(() => {
        const personId = identityOf(identity)?.personId ?? newPersonId;
        const person = { name: null, email: null, picture: null, ...profile, id: personId };
        insert(
          "people",
          { ...person, createdAt: session.createdAt },
          "ON CONFLICT (id) DO UPDATE SET name = excluded.name, email = excluded.email, picture = excluded.picture",
        );
        noteIdentity(identity, personId, session.createdAt);
        insert("sessions", { ...session, personId });
        if (connection) insert("connections", { ...connection, personId });
        if (previousSessionId !== undefined) {
          run(
            "UPDATE connections SET session_id = ? WHERE session_id = ? AND person_id = ? AND provider <> ?",
            session.id,
            previousSessionId,
            personId,
            session.provider,
          );
          run("DELETE FROM sessions WHERE id = ?", previousSessionId);
        }
        return one("SELECT * FROM people WHERE id = ?", personId) as PersonRecord;
      }),
    findIdentity: (issuer, subject) => reading(() => identityOf({ issuer, subject })),
    findIdentities: (personId) => reading(() => identitiesOf(personId)),
    linkIdentity: ({ sessionId, identity, at, connection }) =>
      atomically(() => {
        const session = one("SELECT * FROM sessions WHERE id = ?", sessionId) as SessionRecord | undefined;
        if (!session) return "gone";
        const { personId } = session;
        const known = identityOf(identity);
        if (known && known.personId !== personId) return "taken";
        noteIdentity(identity, personId, at);
        if (connection) {
          const { provider, subject } = connection;
          run(
            "DELETE FROM connections WHERE session_id = ? AND provider = ? AND subject = ?",
            sessionId,
            provider,
            subject,
          );
          insert("connections", { ...connection, personId }, "ON CONFLICT (session_id, provider) DO NOTHING");
        }
        return "linked";
      }),
    unlinkIdentity: ({ personId, issuer, subject }, providers) =>
      atomically(() => {
        const own = identitiesOf(personId);
        const gone = own.find((each) => each.issuer === issuer && each.subject === subject);
        if (!gone || !own.some((each) => each !== gone && providers.includes(each.provider)))
          return undefined;
        // What its sessions hold, and what other sessions of the person hold of this account.
        const held = `person_id = ?1 AND (
          (provider = ?2 AND subject = ?3) OR
          session_id IN (SELECT id FROM sessions WHERE issuer = ?4 AND subject = ?3))`;
        const values = [personId, gone.provider, subject, issuer];
        const connections = all(`SELECT * FROM connections WHERE ${held}`, ...values) as ConnectionRecord[];
        run(`DELETE FROM connections WHERE ${held}`, ...values);
        run("DELETE FROM sessions WHERE issuer = ? AND subject = ?", issuer, subject);
        run("DELETE FROM identities WHERE issuer = ? AND subject = ?", issuer, subject);
        return connections;
      }),
    findSessions: (query) =>
      reading(() => {
        const given = soughtColumns(query);

        const where = given.map(([name]) => `s.${name} = ?`).join(" AND ") || "true";
        const sql = `${sessionsWhere} ${where} ORDER BY s.created_at DESC, s.rowid DESC LIMIT 1000`;
        const rows = prepared(sql)
          .raw()
          .all(...given.map(([, value]) => value)) as SessionValues[];
        return rows.map(fromSessionValues);
      }),
    useMark: (id, expiresAt, now) =>
      atomically(() => {
        run("DELETE FROM marks WHERE id = ? AND expires_at <= ?", id, toText(now));
        const sql = "INSERT INTO marks (id, expires_at) VALUES (?, ?) ON CONFLICT (id) DO NOTHING";
        return run(sql, id, toText(expiresAt)) === 1;
      }),
    isMarked: (id, now) =>
      reading(
        () => one("SELECT 1 FROM marks WHERE id = ? AND expires_at > ?", id, toText(now)) !== undefined,
      ),
    takeLease: (name, owner, seconds) =>
      atomically(() => {
        const now = Date.now();
        const before = one("SELECT ends_at_ms FROM leases WHERE name = ?", name) as
          { readonly endsAtMs: number } | undefined;
        if (before && before.endsAtMs > now) return "held";
        run("DELETE FROM leases WHERE name = ?", name);
        insert("leases", { name, owner, endsAtMs: Math.ceil(now + seconds * 1000) });
        return before ? "taken over" : "taken";
      }),
    releaseLease: (name, owner) =>
      atomically(() => void run("DELETE FROM leases WHERE name = ? AND owner = ?", name, owner)),
    removePerson: (personId) =>
      atomically(() => {
        const held = all("SELECT * FROM connections WHERE person_id = ?", personId) as ConnectionRecord[];
        run("DELETE FROM people WHERE id = ?", personId); // all that is theirs goes with them
        return held;
      }),
    findSession: (id) =>
      reading(() => {
        const values = sessionById.get(id) as SessionValues | undefined;
        return values && fromSessionValues(values);
      }),
    touchSession: (id, lastSeenAt) =>
      atomically(() => void run("UPDATE sessions SET last_seen_at = ? WHERE id = ?", toText(lastSeenAt), id)),
    endSession: (id) =>
      atomically(() => {
        const held = all("SELECT * FROM connections WHERE session_id = ?", id) as ConnectionRecord[];
        run("DELETE FROM sessions WHERE id = ?", id); // the connections go with it
        return held;
      }),
    findConnection: (sessionId, provider) =>
      reading(
        () =>
          one("SELECT * FROM connections WHERE session_id = ? AND provider = ?", sessionId, provider) as
            ConnectionRecord | undefined,
      ),
    replaceConnection: (record) =>
      atomically(() => {
        const stored = one(
          "SELECT session_id FROM connections WHERE id = ? AND version = ?",
          record.id,
          record.version - 1,
        ) as Pick<ConnectionRecord, "sessionId"> | undefined;
        if (!stored) return false;
        run("DELETE FROM connections WHERE id = ?", record.id);
        insert("connections", { ...record, ...stored });
        return true;
      }),
    sweep: (now, attemptsBefore, most) =>
      atomically(() => {
        const sweep = (table: string, before: string) =>
          run(
            `DELETE FROM ${table} WHERE rowid IN (SELECT rowid FROM ${table} WHERE expires_at < ? LIMIT ?)`,
            before,
            most,
          );
        run("DELETE FROM leases WHERE ends_at_ms < ?", Date.now() - 86_400_000);
        const over = toText(now + 1);
        sweep("marks", over);
        return sweep("attempts", toText(attemptsBefore)) + sweep("sessions", over);
      }),
    close: () => reading(() => void database.close()),
  };
}

function guarded<Result>(path: string, work: () => Result): Result {
  try {
    return work();
  } catch (error) {
    if (error instanceof ProblemError) throw error;
    // The driver's own words name files and tables, not values.
    const reason = error instanceof Error ? error.message : "no reason given";
    fail("store.unavailable", { received: `SQLite file ${path}: ${reason}`, cause: error });
  }
}

export type { OpenStoreOptions } from "./migration.js";
