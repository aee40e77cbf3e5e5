import { existsSync } from "node:fs";
import { ProblemError } from "tenonsaw";
import type { Store } from "tenonsaw/server";
import type { OpenStoreOptions } from "tenonsaw/stores/sqlite";

/** Whether a store is at a server; otherwise it is a file. */
export function isUrl(place: string): boolean {
  return /^(rediss?|postgres(ql)?):/.test(place);
}

/** @throws store.unavailable */
function requireKnown(place: string): void {
  if (isUrl(place) || !/^[a-z][a-z+.-]*:\/\//i.test(place)) return;
  throw new ProblemError("store.unavailable", {
    received: `a URL that begins with ${place.slice(0, place.indexOf(":") + 1)}`,
    expected: "a file of SQLite, or a URL that begins with redis:, rediss: or postgres:",
    here: "Name the store that the app has.",
    because: "address",
  });
}

/**
 * Works with a store that is there already, and closes it.
 *
 * @throws store.unavailable, store.newer-schema
 */
export async function withStore<Result>(
  place: string,
  work: (store: Store) => Promise<Result>,
): Promise<Result> {
  requireKnown(place);
  if (!isUrl(place) && !existsSync(place))
    throw new ProblemError("store.unavailable", { received: `${place} is not there`, because: "no-file" });
  const store = await openStore(place);
  try {
    return await work(store);
  } finally {
    await store.close();
  }
}

/**
 * Opens an app's store, and brings it up to date.
 *
 * @throws store.unavailable, store.newer-schema
 */
export async function openStore(place: string, options?: OpenStoreOptions): Promise<Store> {
  requireKnown(place);
  if (/^rediss?:/.test(place)) return (await import("tenonsaw/stores/redis")).openRedisStore(place);
  if (/^postgres(ql)?:/.test(place))
    return (await import("tenonsaw/stores/postgres")).openPostgresStore(place, options);
  return (await import("tenonsaw/stores/sqlite")).openSqliteStore(place, options);
}
