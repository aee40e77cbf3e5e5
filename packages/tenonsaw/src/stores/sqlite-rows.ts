/** A row as SQLite gives it. */
export type Row = Readonly<Record<string, string | number | null>>;

/** A record as columns: `camelCase` to `snake_case`, instants (`…At`) to UTC text, absent members to NULL. */
export function toRow(record: object): Row {
  return Object.fromEntries(
    Object.entries(record).map(([name, value]) => [
      name.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`),
      name.endsWith("At") && typeof value === "number" ? toText(value) : (value as string | number),
    ]),
  );
}

/** Columns as a record: the way back. NULL becomes an absent member. */
export function fromRow(row: Row): unknown {
  return Object.fromEntries(
    Object.entries(row)
      .filter(([name, value]) => value !== null && name !== "_metadata")
      .map(([name, value]) => [
        name.replace(/_([a-z])/g, (_, letter: string) => letter.toUpperCase()),
        name.endsWith("_at") ? Date.parse(String(value)) / 1000 : value,
      ]),
  );
}

/** Seconds since the epoch as UTC text, which sorts like the instants it stands for. */
export function toText(seconds: number): string {
  return new Date(Math.floor(seconds) * 1000).toISOString().replace(".000Z", "Z");
}
