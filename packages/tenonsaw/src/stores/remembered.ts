import QuickLRU from "quick-lru";
import type { Platform } from "../platform/index.js";
import type { FoundSession, Store } from "../session/index.js";

const mostSessions = 10_000;

/**
 * A store whose sessions this process remembers for so many seconds, so that most requests read nothing. For as long a
 * session that was ended elsewhere goes on here; what is ended through this store is forgotten at once.
 */
export function rememberSessions(store: Store, platform: Platform, seconds: number): Store {
  const known = new QuickLRU<string, { readonly found: FoundSession; readonly readAt: number }>({
    maxSize: mostSessions,
  });
  /** Grows when something is forgotten: what was read before that is not remembered after it. */
  let edition = 0;
  const forget = (id?: string) => {
    edition += 1;
    if (id === undefined) known.clear();
    else known.delete(id);
  };
  const forgetting =
    <Values extends unknown[], Result>(work: (...values: Values) => Promise<Result>) =>
    async (...values: Values): Promise<Result> => {
      try {
        return await work(...values);
      } finally {
        forget();
      }
    };
  return {
    ...store,
    async findSession(id) {
      const remembered = known.get(id);
      if (remembered && platform.now() - remembered.readAt < seconds) return remembered.found;
      const [readAt, before] = [platform.now(), edition];
      const found = await store.findSession(id);
      if (found && before === edition) known.set(id, { found, readAt });
      return found;
    },
    async changeSession(id, changes) {
      await store.changeSession(id, changes);
      forget(id);
    },
    async endSession(id) {
      try {
        return await store.endSession(id);
      } finally {
        forget(id);
      }
    },
    async saveSignIn(records) {
      const written = await store.saveSignIn(records);
      // The profile may be another one, and the session before this has ended.
      if (records.previousSessionId !== undefined) forget(records.previousSessionId);
      for (const [id, { found }] of known.entries()) if (found.person.id === records.personId) forget(id);
      return written;
    },
    unlinkIdentity: forgetting((identity, providers) => store.unlinkIdentity(identity, providers)),
    removePerson: forgetting((personId) => store.removePerson(personId)),
  };
}
