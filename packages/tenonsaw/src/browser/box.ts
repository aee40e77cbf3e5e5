import { clear, createStore, del, entries, get, set, update, type UseStore } from "idb-keyval";

/** What outlives a page: by name, whatever can be cloned, keys of Web Crypto among it. */
export interface Box {
  /** Whether it outlives anything: a private window may keep nothing. */
  readonly isKept: boolean;
  get(name: string): Promise<unknown>;
  put(name: string, value: unknown): Promise<void>;
  /** Puts `value` in its place, at once for all tabs, unless `fits` says no of what is there; returns what was. */
  replace(name: string, value: unknown, fits?: (before: unknown) => boolean): Promise<unknown>;
  remove(name: string): Promise<void>;
  /** Names and values of all whose name begins so. */
  all(beginning: string): Promise<readonly (readonly [string, unknown])[]>;
  clear(): Promise<void>;
}

/** IndexedDB; where there is none to be had, the memory of this worker. */
export async function openBox(name: string): Promise<Box> {
  try {
    const store = createStore(name, "kept");
    await get("key", store);
    return createDatabaseBox(store);
  } catch {
    return createMemoryBox();
  }
}

function createDatabaseBox(store: UseStore): Box {
  return {
    isKept: true,
    get: (name) => get(name, store),
    put: (name, value) => set(name, value, store),
    async replace(name, value, fits = () => true) {
      let before: unknown;
      await update<unknown>(
        name,
        (old) => {
          before = old;
          return fits(old) ? value : old;
        },
        store,
      );
      return before;
    },
    remove: (name) => del(name, store),
    async all(beginning) {
      const found = await entries<string, unknown>(store);
      return found.filter(([name]) => name.startsWith(beginning));
    },
    clear: () => clear(store),
  };
}

/** For as long as the worker lives. */
export function createMemoryBox(): Box {
  const kept = new Map<string, unknown>();
  const at = <Value>(value: Value) => Promise.resolve(value);
  return {
    isKept: false,
    get: (name) => at(kept.get(name)),
    put: (name, value) => at(void kept.set(name, value)),
    replace(name, value, fits = () => true) {
      const before = kept.get(name);
      if (fits(before)) kept.set(name, value);
      return at(before);
    },
    remove: (name) => at(void kept.delete(name)),
    all: (beginning) => at([...kept].filter(([name]) => name.startsWith(beginning))),
    clear() {
      kept.clear();
      return at(undefined);
    },
  };
}
