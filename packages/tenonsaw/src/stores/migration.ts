import { fail } from "../problem/index.js";

/** How a store's tables stand: how many migrations they have been through, and how many a program has to know to use them. */
export interface SchemaState {
  readonly version: number;
  /** Programs that know fewer of them cannot work with these tables; those that know as many can, while newer ones do. */
  readonly compatibleFrom: number;
}

/** What may be said when a store is opened. */
export interface OpenStoreOptions {
  /** Is told when the tables were made, or brought up to date. */
  readonly onMigrated?: (from: number, to: number) => void;
}

/**
 * Which migrations are missing. During a deployment older and newer programs run side by side: a newer schema is fine as
 * long as it says so.
 *
 * @throws store.newer-schema
 */
export function missingMigrations(
  place: string,
  { version, compatibleFrom }: SchemaState,
  migrations: readonly string[],
): readonly string[] {
  if (version > migrations.length && compatibleFrom > migrations.length) {
    fail("store.newer-schema", {
      received: `${place}: version ${version}, for programs that know ${compatibleFrom} at least`,
      expected: `at most ${migrations.length}, or one that such a program can use`,
    });
  }
  return migrations.slice(version);
}
