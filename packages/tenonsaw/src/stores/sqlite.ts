import { closeSync, openSync } from "node:fs";
import { setTimeout as wait } from "node:timers/promises";
import Database from "libsql";
import { fail, ProblemError, isProblem } from "../problem/index.js";
import {
  attemptMemorySeconds,
  tombstoneOf,
  type AttemptRecord,
  type ConnectionRecord,
  type IdentityRecord,
  type KeptConnection,
  type PersonRecord,
  type SessionRecord,
  type Lease,
  type SignInRecords,
  type Store,
} from "../session/index.js";
import { createBudget, keepsItsBudget } from "./budget.js";
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
import { refuseAddress, requireTableOptions } from "./given.js";
import { missingMigrations, type OpenStoreOptions, type SchemaState } from "./migration.js";
import { compatibleFrom, migrations } from "./sqlite-schema.js";
import { whyAway } from "./why-away.js";

/**
 * Opens (or makes) a store in one SQLite file, which only this user may read. Several processes of one machine may share
 * it; while another one writes, this one waits without standing still. Needs the package `libsql` beside this one.
 *
 * @param path the file, or ":memory:"
 * @throws store.unavailable, store.newer-schema
 */
export async function openSqliteStore(path: string, options: OpenStoreOptions = {}): Promise<Store> {
  const given: unknown = path;
  if (typeof given !== "string" || path === "" || /^[a-z][a-z\d+.-]+:/i.test(path))
    refuseAddress("SQLite", given);
  requireTableOptions(options);
  const patiently = createPatience(path);
  return keepsItsBudget(await patiently(() => createStore(openDatabase(path, options), patiently)));
}

function openDatabase(path: string, options: OpenStoreOptions): Database.Database {
  // SQLite makes a file that everybody may read; its further files get the rights of this one.
  if (path !== ":memory:") closeSync(openSync(path, "a", 0o600));
  const database = new Database(path);
  try {
    prepare(path, database, options);
  } catch (error) {
    database.close();
    throw error;
  }
  return database;
}

function prepare(path: string, database: Database.Database, { onMigrated }: OpenStoreOptions): void {
  // The driver would wait in this thread, and nothing else would run: waiting is done out here.
  database.pragma("busy_timeout = 0");
  database.pragma("journal_mode = WAL");
  database.pragma("synchronous = FULL"); // a refresh token that rotated must survive a power cut
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
  immediately(database)(migrate);
}

/**
 * Does work as one transaction, which has the file to itself from its beginning. The driver's own way of it hides what
 * went wrong where SQLite has rolled back by itself, as it does on a full disk.
 */
function immediately(database: Database.Database): <Result>(work: () => Result) => Result {
  const [begin, commit, rollback] = ["BEGIN IMMEDIATE", "COMMIT", "ROLLBACK"].map((sql) =>
    database.prepare(sql),
  );
  return (work) => {
    begin?.run();
    try {
      const result = work();
      commit?.run();
      return result;
    } finally {
      if (database.inTransaction) rollback?.run();
    }
  };
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

function createStore(database: Database.Database, patiently: Patience): Store {
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
  const transact = immediately(database);
  const atomically = <Result>(work: () => Result): Promise<Result> => patiently(() => transact(work));
  const dropSession = (id: string) => {
    const held = all("SELECT * FROM connections WHERE session_id = ?", id) as ConnectionRecord[];
    run("DELETE FROM sessions WHERE id = ?", id); // the connections go with it
    return held;
  };
  const dropKeptWhere = (where: string, ...values: unknown[]) =>
    all(`DELETE FROM kept_connections WHERE ${where} RETURNING *`, ...values) as KeptConnection[];
  /** Whether the lease is the last that was given of its name, and was not given back. */
  const holds = ({ name, number }: Lease) =>
    one("SELECT 1 FROM leases WHERE name = ? AND number = ?", name, number) !== undefined;

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
      patiently(() => one("SELECT * FROM attempts WHERE id = ?", id) as AttemptRecord | undefined),
    useAttempt: (id, usedAt) =>
      atomically(
        () =>
          run("UPDATE attempts SET used_at = ? WHERE id = ? AND used_at IS NULL", toText(usedAt), id) === 1,
      ),
    saveSignIn: ({ personId, profile, identity, session, connection, previousSessionId }) =>
      atomically(() => {
        const known = identityOf(identity);
        if (known && known.personId !== personId) return undefined;
        const person = { name: null, email: null, picture: null, ...profile, id: personId };
        insert(
          "people",
          { ...person, createdAt: session.createdAt },
          "ON CONFLICT (id) DO UPDATE SET name = excluded.name, email = excluded.email, picture = excluded.picture",
        );
        noteIdentity(identity, personId, session.createdAt);
        insert("sessions", { ...session, personId });
        if (connection) insert("connections", { ...connection, personId });
        let held: readonly ConnectionRecord[] = [];
        if (previousSessionId !== undefined) {
          run(
            "UPDATE connections SET session_id = ? WHERE session_id = ? AND person_id = ? AND provider <> ?",
            session.id,
            previousSessionId,
            personId,
            session.provider,
          );
          held = dropSession(previousSessionId);
        }
        return { person: one("SELECT * FROM people WHERE id = ?", personId) as PersonRecord, held };
      }),
    findIdentity: (issuer, subject) => patiently(() => identityOf({ issuer, subject })),
    findIdentities: (personId) => patiently(() => identitiesOf(personId)),
    linkIdentity: ({ sessionId, identity, at, connection }) =>
      atomically(() => {
        const session = one("SELECT * FROM sessions WHERE id = ?", sessionId) as SessionRecord | undefined;
        if (!session) return { kind: "gone" };
        const { personId } = session;
        const known = identityOf(identity);
        if (known && known.personId !== personId) return { kind: "taken" };
        noteIdentity(identity, personId, at);
        if (!connection) return { kind: "linked", held: [] };
        const same = [sessionId, connection.provider, connection.subject];
        const where = "WHERE session_id = ? AND provider = ? AND subject = ?";
        const held = all(`SELECT * FROM connections ${where}`, ...same) as ConnectionRecord[];
        run(`DELETE FROM connections ${where}`, ...same);
        insert("connections", { ...connection, personId }, "ON CONFLICT (session_id, provider) DO NOTHING");
        return { kind: "linked", held };
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
    findSessions: (query, part = {}) =>
      patiently(() => {
        const given = soughtColumns(query);
        const { where, order, values } = partOf(part, ["sessions", "s."], ["created_at", "rowid"], () => "?");
        const sought = given.map(([name]) => `s.${name} = ?`).join(" AND ") || "true";
        const rows = prepared(`${sessionsWhere} ${sought}${where}${order}`)
          .raw()
          .all(...given.map(([, value]) => value), ...values) as SessionValues[];
        return rows.map(fromSessionValues);
      }),
    useMark: (id, expiresAt, now) =>
      atomically(() => {
        run("DELETE FROM marks WHERE id = ? AND expires_at <= ?", id, toText(now));
        // Two of those that are over go for each that comes: beside a guard nobody else clears them away.
        run("DELETE FROM marks WHERE id IN (SELECT id FROM marks WHERE expires_at < ? LIMIT 2)", toText(now));
        const sql = "INSERT INTO marks (id, expires_at) VALUES (?, ?) ON CONFLICT (id) DO NOTHING";
        return run(sql, id, toText(expiresAt)) === 1;
      }),
    isMarked: (id, now) =>
      patiently(
        () => one("SELECT 1 FROM marks WHERE id = ? AND expires_at > ?", id, toText(now)) !== undefined,
      ),
    takeLease: (name, owner, seconds, room = 0) =>
      atomically(() => {
        const uptime = uptimeSeconds();
        const before = one("SELECT ends_at_uptime, seconds FROM leases WHERE name = ?", name) as
          { readonly endsAtUptime: number; readonly seconds: number } | undefined;
        const left = before ? before.endsAtUptime - uptime : 0;
        // One that would run for longer than it was given for is from before this machine was started.
        if (before && left > 0 && left <= before.seconds) return { kind: "held" };
        run("UPDATE counters SET value = value + 1 WHERE name = 'lease'");
        const { value: number } = one("SELECT value FROM counters WHERE name = 'lease'") as { value: number };
        run("DELETE FROM leases WHERE name = ?", name);
        insert("leases", {
          name,
          owner,
          number,
          takenAt: Date.now() / 1000,
          seconds,
          endsAtUptime: uptime + seconds,
          room: " ".repeat(room),
        });
        return { kind: before ? "taken over" : "taken", number };
      }),
    releaseLease: (name, owner) =>
      atomically(() => void run("DELETE FROM leases WHERE name = ? AND owner = ?", name, owner)),
    removePerson: (personId) =>
      atomically(() => {
        const held = all("SELECT * FROM connections WHERE person_id = ?", personId) as ConnectionRecord[];
        run("DELETE FROM people WHERE id = ?", personId); // all that is theirs goes with them
        return [...held, ...dropKeptWhere("person_id = ?", personId)];
      }),
    keepConnection: (record) =>
      atomically(() => {
        const { personId, provider, environment, account } = record;
        const where = "person_id = ? AND provider = ? AND environment = ? AND account = ?";
        const before = dropKeptWhere(where, personId, provider, environment, account);
        insert("kept_connections", record);
        return before;
      }),
    findKept: (id) =>
      patiently(() => one("SELECT * FROM kept_connections WHERE id = ?", id) as KeptConnection | undefined),
    findAllKept: (query, part = {}) =>
      patiently(() => {
        const given = soughtColumns(query);
        const { where, order, values } = partOf(
          part,
          ["kept_connections", ""],
          ["connected_at", "rowid"],
          () => "?",
        );
        const sought = given.map(([name]) => `${name} = ?`).join(" AND ") || "true";
        const sql = `SELECT * FROM kept_connections WHERE ${sought}${where}${order}`;
        return all(sql, ...given.map(([, value]) => value), ...values) as KeptConnection[];
      }),
    touchKept: (id, lastUsedAt) =>
      atomically(
        () => void run("UPDATE kept_connections SET last_used_at = ? WHERE id = ?", toText(lastUsedAt), id),
      ),
    dropKept: (id) => atomically(() => dropKeptWhere("id = ?", id)[0]),
    findSession: (id) =>
      patiently(() => {
        const values = sessionById.get(id) as SessionValues | undefined;
        return values && fromSessionValues(values);
      }),
    changeSession: (id, changes) =>
      atomically(() => {
        const row = Object.entries(toRow(changes));
        const set = row.map(([name]) => `${name} = ?`).join(", ");
        if (set) run(`UPDATE sessions SET ${set} WHERE id = ?`, ...row.map(([, value]) => value), id);
      }),
    endSession: (id) => atomically(() => dropSession(id)),
    findConnection: (sessionId, provider) =>
      patiently(
        () =>
          one("SELECT * FROM connections WHERE session_id = ? AND provider = ?", sessionId, provider) as
            ConnectionRecord | undefined,
      ),
    replaceConnection: (record, lease) =>
      atomically(() => {
        if (lease && !holds(lease)) return false;
        const changes = connectionChanges(record);
        const table = record.sessionId === undefined ? "kept_connections" : "connections";
        const sql = `UPDATE ${table} SET ${changes.map(([name]) => `${name} = ?`).join(", ")}
          WHERE id = ? AND version = ?`;
        return run(sql, ...changes.map(([, value]) => value), record.id, record.version - 1) === 1;
      }),
    sweep: (now, most) =>
      atomically(() => {
        const over = toText(now + 1);
        const idsOver = (table: string) =>
          all(`SELECT id, expires_at FROM ${table} WHERE expires_at < ? LIMIT ?`, over, most) as {
            readonly id: string;
            readonly expiresAt: number;
          }[];
        for (const { id } of idsOver("marks")) run("DELETE FROM marks WHERE id = ?", id);
        run(
          "DELETE FROM leases WHERE ends_at_uptime < ?1 OR ends_at_uptime - seconds > ?2",
          uptimeSeconds() - 86_400,
          uptimeSeconds(),
        );
        const [attempts, sessions] = [idsOver("attempts"), idsOver("sessions")];
        for (const { id, expiresAt } of attempts) {
          run("DELETE FROM attempts WHERE id = ?", id);
          const until = toText(expiresAt + attemptMemorySeconds);
          run("INSERT INTO marks VALUES (?, ?) ON CONFLICT (id) DO NOTHING", tombstoneOf(id), until);
        }
        const held = sessions.flatMap(({ id }) => dropSession(id));
        return { count: attempts.length + sessions.length, held };
      }),
    close: () => patiently.close(database),
  };
}

/** Seconds on a clock that all processes of one machine share, and that nobody sets. */
function uptimeSeconds(): number {
  return Number(process.hrtime.bigint() / 1000n) / 1_000_000;
}

interface Patience {
  <Result>(work: () => Result): Promise<Result>;
  /** Closes the database for good; whatever comes after that is refused. */
  close(database: Database.Database): Promise<void>;
}

/**
 * Work is done at once; where another process is writing just then it is tried again every few milliseconds, one piece
 * of work after the other, while this process goes on.
 */
function createPatience(path: string): Patience {
  const place = `SQLite file ${path}`;
  const budget = createBudget(place);
  let last: Promise<unknown> = Promise.resolve();
  const nobody = () => undefined;
  let isClosed = false;
  /** The driver ends the process when it is asked for anything of a database that has been closed. */
  const attempt = <Result>(work: () => Result): Result =>
    isClosed ? fail("store.unavailable", { received: `${place}: closed`, because: "closed" }) : work();
  const patiently = async <Result>(work: () => Result): Promise<Result> => {
    try {
      return attempt(work);
    } catch (error) {
      if (!isBusy(error)) throw asProblem(place, error);
    }
    return budget.ask((call) => {
      const turn = last.then(async () => {
        for (;;) {
          if (call.isOver) return fail("store.unavailable", { received: `${place}: still being written to` });
          try {
            return attempt(work);
          } catch (error) {
            if (!isBusy(error)) throw asProblem(place, error);
          }
          await wait(1 + Math.random() * 6);
        }
      });
      last = turn.catch(nobody);
      return turn;
    });
  };
  return Object.assign(patiently, {
    async close(database: Database.Database) {
      if (isClosed) return;
      await patiently(() => void database.close());
      isClosed = true;
    },
  });
}

function isBusy(error: unknown): boolean {
  const { code } = (error ?? {}) as { readonly code?: unknown };
  return typeof code === "string" && /^SQLITE_(BUSY|LOCKED)/.test(code);
}

function asProblem(place: string, error: unknown): ProblemError {
  if (isProblem(error)) return error;
  // The driver's own words name files and tables, not values.
  const reason = error instanceof Error ? error.message : "no reason given";
  const because = whyAway(error);
  return new ProblemError("store.unavailable", { received: `${place}: ${reason}`, because, cause: error });
}

export type { OpenStoreOptions } from "./migration.js";
