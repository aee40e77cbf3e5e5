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
  for (const name in row) {
    const value = row[name];
    if (value !== null && value !== undefined) read(name, value, record, record);
  }
  return record;
}

/** A session's row that carries the columns of its person, each behind `person$`. */
export function splitPerson(row: Row): { readonly session: SessionRecord; readonly person: PersonRecord } {
  const session: Record<string, unknown> = {};
  const person: Record<string, unknown> = { id: row["person_id"] };
  for (const name in row) {
    const value = row[name];
    if (value !== null && value !== undefined) read(name, value, session, person);
  }
  return { session, person } as unknown as ReturnType<typeof splitPerson>;
}

/** What becomes of a column: worked out once, for it is done with every row. */
interface Column {
  readonly member: string;
  readonly isPersons: boolean;
  readonly kind: "plain" | "instant" | "json" | "unread";
}
const columns = new Map<string, Column>();
const personPrefix = "person$";

function describe(name: string): Column {
  const isPersons = name.startsWith(personPrefix);
  const own = isPersons ? name.slice(personPrefix.length) : name;
  const member = own.replace(/_([a-z])/g, (_, letter: string) => letter.toUpperCase());
  if (own === "_metadata" || own === "serial") return { member, isPersons, kind: "unread" };
  if (own === "kept" || own === "api_tokens") return { member, isPersons, kind: "json" };
  return { member, isPersons, kind: own.endsWith("_at") ? "instant" : "plain" };
}

function read(
  name: string,
  value: NonNullable<Row[string]>,
  session: Record<string, unknown>,
  person: Record<string, unknown>,
): void {
  let column = columns.get(name);
  if (!column) columns.set(name, (column = describe(name)));
  const { member, isPersons, kind } = column;
  const record = isPersons ? person : session;
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
