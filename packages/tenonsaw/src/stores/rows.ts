import type { PersonRecord, SessionRecord } from "../session/index.js";

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

/** Columns as a record: the way back. NULL becomes an absent member. */
export function fromRow(row: Row): unknown {
  const record: Record<string, unknown> = {};
  for (const name in row) put(record, name, row[name]);
  return record;
}

const personPrefix = "person$";

/** A session's row that carries the columns of its person, each behind `person$`. */
export function splitPerson(row: Row): { readonly session: SessionRecord; readonly person: PersonRecord } {
  const session: Record<string, unknown> = {};
  const person: Record<string, unknown> = { id: row["person_id"] };
  for (const name in row) {
    if (name.startsWith(personPrefix)) put(person, name.slice(personPrefix.length), row[name]);
    else put(session, name, row[name]);
  }
  return { session, person } as unknown as ReturnType<typeof splitPerson>;
}

function put(record: Record<string, unknown>, column: string, value: Row[string] | undefined): void {
  if (value === null || value === undefined || column === "_metadata" || column === "serial") return;
  record[memberOf(column)] = fromColumn(column, value);
}

const members = new Map<string, string>();

function memberOf(column: string): string {
  const known = members.get(column);
  if (known !== undefined) return known;
  const member = column.replace(/_([a-z])/g, (_, letter: string) => letter.toUpperCase());
  members.set(column, member);
  return member;
}

/** Seconds since the epoch as UTC text, which sorts like the instants it stands for. */
export function toText(seconds: number): string {
  return new Date(Math.floor(seconds) * 1000).toISOString().replace(".000Z", "Z");
}

function toColumn(name: string, value: unknown): string | number {
  if (name.endsWith("At") && typeof value === "number") return toText(value);
  return typeof value === "object" && value !== null ? JSON.stringify(value) : (value as string | number);
}

function fromColumn(name: string, value: Row[string]): unknown {
  if (value instanceof Date) return value.getTime() / 1000;
  if (name.endsWith("_at")) return Date.parse(String(value)) / 1000;
  return name === "kept" || name === "api_tokens" ? JSON.parse(String(value)) : value;
}
