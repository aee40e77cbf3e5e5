import type { CauseOf } from "../problem/index.js";

type Cause = CauseOf<"store.unavailable">;

/** By the codes of the system, of SQLite, of PostgreSQL (SQLSTATE), and otherwise by the words of the driver or of Redis. */
const causes: readonly (readonly [RegExp, Cause])[] = [
  [/^(ECONNREFUSED|EHOSTUNREACH|ENETUNREACH|ETIMEDOUT)\b/, "not-there"],
  [/^(ENOTFOUND|EAI_AGAIN)\b/, "host-unknown"],
  [/^ENOENT\b/, "no-folder"],
  [/^EISDIR/, "folder"],
  [/^(SQLITE_NOTADB|SQLITE_CORRUPT)/, "not-a-database"],
  [/^(EACCES|EPERM|SQLITE_CANTOPEN|SQLITE_PERM|42501|NOPERM)/, "not-allowed"],
  [/^(EROFS|SQLITE_READONLY|25006|READONLY)/, "read-only"],
  [/^(ENOSPC|SQLITE_FULL|53100|OOM|MISCONF)/, "full"],
  [/^(28P01|28000|NOAUTH|WRONGPASS)\b/, "credentials"],
  [/^(3D000|ERR DB index)/, "no-database"],
  [/^53300\b/, "crowded"],
  [/^(SQLITE_ERROR no such table|42P01)/, "no-tables"],
  [/^SQLITE_ERROR table \w+ already exists/, "of-another"],
  [/\bclient is closed$|\bafter calling end on the pool$/i, "closed"],
  [/^\w*CERT|^ERR_TLS|^ERR_SSL|^EPROTO\b|\bSSL\b/, "tls"],
];

/** Which of its causes a store's failure has, where the driver's error tells. */
export function whyAway(error: unknown): Cause | undefined {
  if (!(error instanceof Error)) return undefined;
  const { code, syscall, message } = error as Error & { readonly code?: unknown; readonly syscall?: unknown };
  // A database's socket, which is a file, and not there.
  if (code === "ENOENT" && syscall === "connect") return "not-there";
  const said = typeof code === "string" ? `${code} ${message}` : message;
  return causes.find(([pattern]) => pattern.test(said))?.[1];
}
