/** Stores that have a server: what starts one of the demo's own, and what to install where it is not there. */
const servers: Readonly<Record<string, { readonly program: string; readonly install: string }>> = {
  redis: { program: "REDIS_SERVER", install: "apt-get install redis-server" },
  postgres: { program: "POSTGRES_PROGRAMS", install: "apt-get install postgresql" },
};

/** The store that was asked for is not on this machine. */
export class StoreMissingError extends Error {
  override readonly name = "StoreMissingError";
}

/**
 * Where the store is: a file, what was named, or a server that is started for it and ended.
 *
 * @throws StoreMissingError
 */
export async function findStore(
  store: string,
  file: string,
): Promise<{ readonly place: string; readonly stop: () => Promise<void> }> {
  const none = () => Promise.resolve();
  if (store === "sqlite") return { place: file, stop: none };
  const server = servers[store];
  if (!server) return { place: store, stop: none };
  const scripts = new URL("../../../../scripts/", import.meta.url);
  const { findPrograms } = (await import(new URL("ready.mjs", scripts).href)) as {
    findPrograms: () => Partial<Record<string, string>>;
  };
  const programs = findPrograms();
  if (programs[server.program] === undefined)
    throw new StoreMissingError(`${store} is not installed here: ${server.install}, or --store ${store}://…`);
  const { startStoreServer } = (await import(new URL("servers.mjs", scripts).href)) as {
    startStoreServer: (kind: string, programs: object) => Promise<{ url: string; stop: () => Promise<void> }>;
  };
  const { url, stop } = await startStoreServer(store, programs);
  return { place: url, stop };
}
