import { existsSync } from "node:fs";
import { ProblemError } from "tenonsaw";
import type { Store } from "tenonsaw/server";
import type { OpenStoreOptions } from "tenonsaw/stores/sqlite";

/** Whether a store is at a server; otherwise it is a file. */
export function isUrl(place: string): boolean {
  return /^(rediss?|postgres(ql)?):/.test(place);
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
  if (!isUrl(place) && !existsSync(place))
    throw new ProblemError("store.unavailable", { received: `${place} is not there` });
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
  if (/^rediss?:/.test(place)) return (await import("tenonsaw/stores/redis")).openRedisStore(place);
  if (/^postgres(ql)?:/.test(place))
    return (await import("tenonsaw/stores/postgres")).openPostgresStore(place, options);
  return (await import("tenonsaw/stores/sqlite")).openSqliteStore(place, options);
}
