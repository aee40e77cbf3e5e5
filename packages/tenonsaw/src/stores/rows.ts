import { mostFound } from "../session/index.js";
import type { ConnectionRecord, FoundSession, KeptQuery, ListPart, SessionQuery } from "../session/index.js";

/** A row as a database gives it: instants as text, or as the driver reads them. */
export type Row = Readonly<Record<string, string | number | boolean | Date | null>>;

/** A record as columns: `camelCase` to `snake_case`, instants (`…At`) to UTC text, objects to JSON. */
export function toRow(record: object): Row {
  return Object.fromEntries(
    Object.entries(record).map(([name, value]) => [
      name.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`),
      toColumn(name, value),
    ]),
  );
}

const connectionNames = [
  "id",
  "session_id",
  "person_id",
  "provider",
  "subject",
  "scope",
  "not_granted",
  "status",
  "obtained_at",
  "expires_at",
  "refresh_count",
  "sealed_access_token",
  "sealed_refresh_token",
  "sealed_id_token",
  "sealed_dpop_key",
  "sealed_token_secret",
  "sealed_context",
  "sealed_replaced",
  "api_tokens",
  "kept",
  "version",
  "renewed_under",
];

/**
 * What a write changes of a connection: all columns but those that say whose it is, NULL for what is not there. A column
 * that a newer program has added stays as it is.
 */
export function connectionChanges(record: ConnectionRecord): readonly (readonly [string, Row[string]])[] {
  const row = toRow(record);
  return connectionNames
    .filter((name) => !["id", "session_id", "person_id"].includes(name))
    .map((name) => [name, row[name] ?? null]);
}

/** The columns that a query asks for, each with its value. */
export function soughtColumns(query: SessionQuery | KeptQuery): [string, Row[string]][] {
  const given = Object.entries(query).filter(([, value]) => value !== undefined);
  return Object.entries(toRow(Object.fromEntries(given)));
}

/**
 * Where a part of a list begins and ends, as SQL: by time, and in one second by when they were written.
 *
 * @param table with how its columns are named in the query
 * @param columns the time that it goes by, and the number that counts what was written
 * @param place how the parameter of this number is written
 */
export function partOf(
  { after, most = mostFound }: ListPart,
  [table, prefix]: readonly [string, string],
  [time, serial]: readonly [string, string],
  place: (number: number) => string,
): { readonly where: string; readonly order: string; readonly values: readonly string[] } {
  const [at, number] = [prefix + time, prefix + serial];
  // After a record that is gone, those of its second come once more.
  const last = `COALESCE((SELECT ${serial} FROM ${table} WHERE id = ${place(1)}), 9223372036854775807)`;
  return {
    where: after ? ` AND (${at}, ${number}) < (${place(0)}, ${last})` : "",
    order: ` ORDER BY ${at} DESC, ${number} DESC LIMIT ${Math.min(mostFound, Math.max(1, Math.trunc(most)))}`,
    values: after ? [toText(after.at), after.id] : [],
  };
}

/** Columns as a record: the way back. NULL becomes an absent member. */
export function fromRow(row: Row): unknown {
  const record: Record<string, unknown> = {};
  for (const name in row) read(columnOf(name), row[name], record);
  return record;
}

const sessionNames = [
  "id",
  "person_id",
  "provider",
  "issuer",
  "subject",
  "provider_session_id",
  "authenticated_at",
  "authentication_class",
  "claims",
  "kind",
  "device",
  "last_seen_at",
  "created_at",
  "expires_at",
];
const personNames = ["name", "email", "picture", "created_at"];

/**
 * What to select of a session `s` joined with its person `p`. Named one by one, so that a column which a newer program
 * adds meanwhile neither shifts the values nor changes what a prepared statement gives.
 */
export const sessionColumns = [
  ...sessionNames.map((name) => `s.${name}`),
  ...personNames.map((name) => `p.${name}`),
].join(", ");

/** The values of `sessionColumns`, as drivers give a row most cheaply: in order, without names. */
export type SessionValues = readonly Row[string][];

export function fromSessionValues(values: SessionValues): FoundSession {
  const session: Record<string, unknown> = {};
  let at = 0;
  for (const column of sessionMembers) read(column, values[at++], session);
  const person: Record<string, unknown> = { id: session["personId"] };
  for (const column of personMembers) read(column, values[at++], person);
  return { session, person } as unknown as FoundSession;
}

/** What becomes of a column: worked out once, for it is done with every row. */
interface Column {
  readonly member: string;
  readonly kind: "plain" | "instant" | "json" | "unread";
}
const columns = new Map<string, Column>();
const sessionMembers = sessionNames.map(columnOf);
const personMembers = personNames.map(columnOf);

function columnOf(name: string): Column {
  const known = columns.get(name);
  if (known) return known;
  const member = name.replace(/_([a-z])/g, (_, letter: string) => letter.toUpperCase());
  const column = { member, kind: kindOf(name) };
  columns.set(name, column);
  return column;
}

function kindOf(name: string): Column["kind"] {
  if (name === "_metadata" || name === "serial") return "unread";
  if (name === "kept" || name === "api_tokens" || name === "claims") return "json";
  return name.endsWith("_at") ? "instant" : "plain";
}

function read(
  { member, kind }: Column,
  value: Row[string] | undefined,
  record: Record<string, unknown>,
): void {
  if (value === null || value === undefined) return;
  if (kind === "plain") record[member] = value;
  else if (kind === "instant") record[member] = toSeconds(value);
  else if (kind === "json") record[member] = JSON.parse(value as string);
}

function toSeconds(value: NonNullable<Row[string]>): number {
  return (value instanceof Date ? value.getTime() : Date.parse(value as string)) / 1000;
}

/** Seconds since the epoch as UTC text, which sorts like the instants it stands for. */
export function toText(seconds: number): string {
  return new Date(Math.floor(seconds) * 1000).toISOString().replace(".000Z", "Z");
}

function toColumn(name: string, value: unknown): string | number {
  if (name.endsWith("At") && typeof value === "number") return toText(value);
  return typeof value === "object" && value !== null ? JSON.stringify(value) : (value as string | number);
}
