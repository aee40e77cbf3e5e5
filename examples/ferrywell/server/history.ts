import Database from "libsql";
import type { ConnectionEvent } from "tenonsaw/server";

/** What happened to a connection, and in which process. */
export interface HistoryEntry {
  readonly at: number;
  readonly process: number;
  readonly kind: ConnectionEvent["kind"];
  readonly provider: string;
}

/** Ferrywell's own note of what the library told it, shared by its processes. */
export interface History {
  readonly note: (event: ConnectionEvent) => void;
  /** The newest first. */
  of(personId: string): readonly HistoryEntry[];
  close(): void;
}

/** @param file an SQLite file, or ":memory:" */
export function openHistory(file: string, process: number): History {
  const database = new Database(file);
  database.pragma("journal_mode = WAL");
  database.pragma("busy_timeout = 5000");
  database.exec(
    "CREATE TABLE IF NOT EXISTS history (at REAL, process INTEGER, kind TEXT, provider TEXT, person_id TEXT)",
  );
  const insert = database.prepare("INSERT INTO history VALUES (?, ?, ?, ?, ?)");
  const select = database.prepare(
    "SELECT at, process, kind, provider FROM history WHERE person_id = ? ORDER BY rowid DESC LIMIT 20",
  );
  return {
    note: ({ at, kind, provider, personId }) => void insert.run(at, process, kind, provider, personId),
    of: (personId) => select.all(personId) as HistoryEntry[],
    close: () => void database.close(),
  };
}
