import {
  attemptMemorySeconds,
  mostFound,
  tombstoneOf,
  type AttemptRecord,
  type ConnectionRecord,
  type IdentityRecord,
  type KeptConnection,
  type KeptQuery,
  type ListPart,
  type PersonRecord,
  type SessionQuery,
  type SessionRecord,
  type Store,
} from "../session/index.js";

/**
 * A store in this process's memory: for tests and trials. Everything is gone when the process ends.
 *
 * @param monotonic seconds, of the clock by which leases end
 */
export function createMemoryStore(monotonic = () => performance.now() / 1000): Store {
  const attempts = new Map<string, AttemptRecord>();
  /** By browser, so that beginning a sign-in takes as long however many others are open. */
  const openAttempts = new Map<string, readonly AttemptRecord[]>();
  const people = new Map<string, PersonRecord>();
  const identities = new Map<string, IdentityRecord>();
  const sessions = new Map<string, SessionRecord>();
  const marks = new Map<string, number>();
  const leases = new Map<
    string,
    { readonly owner: string; readonly number: number; readonly endsAt: number }
  >();
  let leasesGiven = 0;
  /** By session, then by provider. */
  const connections = new Map<string, Map<string, ConnectionRecord>>();
  /** By ID, the oldest first. */
  const keptOnes = new Map<string, KeptConnection>();
  /** The session that a connection went over to, by the connection's ID. */
  const moved = new Map<string, string>();

  const identitiesOf = (personId: string) =>
    [...identities.values()].filter((each) => each.personId === personId);

  const isMarked = (id: string, now: number) => (marks.get(id) ?? -Infinity) > now;

  const findAllKept = (query: KeptQuery, part: ListPart = {}): readonly KeptConnection[] => {
    const wanted = Object.entries(query) as [keyof KeptQuery, string | undefined][];
    const sought = [...keptOnes.values()].filter((each) =>
      wanted.every(([name, value]) => value === undefined || each[name] === value),
    );
    return listed(sought, ({ connectedAt }) => connectedAt, part);
  };
  const dropAll = (found: readonly KeptConnection[]) => {
    for (const { id } of found) keptOnes.delete(id);
    return found;
  };

  const removeSession = (id: string): readonly ConnectionRecord[] => {
    const held = [...(connections.get(id)?.values() ?? [])];
    sessions.delete(id);
    connections.delete(id);
    for (const each of held) moved.delete(each.id);
    return held;
  };

  return {
    isForgetful: true,
    addAttempt: (record, mostOpen) => {
      attempts.set(record.id, record);
      const open = [...(openAttempts.get(record.browserHash) ?? []), record]
        .filter(({ id }) => attempts.get(id)?.usedAt === undefined && attempts.has(id))
        .sort((left, right) => left.beganAt - right.beganAt);
      for (const { id } of open.slice(0, -mostOpen)) attempts.delete(id);
      openAttempts.set(record.browserHash, open.slice(-mostOpen));
      return Promise.resolve();
    },
    findAttempt: (id) => Promise.resolve(attempts.get(id)),
    useAttempt: (id, usedAt) => {
      const attempt = attempts.get(id);
      if (!attempt || attempt.usedAt !== undefined) return Promise.resolve(false);
      attempts.set(id, { ...attempt, usedAt });
      return Promise.resolve(true);
    },
    saveSignIn: ({ personId, profile, identity, session, connection, previousSessionId = "" }) => {
      const key = keyOf(identity);
      const known = identities.get(key);
      if (known && (known.personId !== personId || !people.has(personId))) return Promise.resolve(undefined);
      const createdAt = people.get(personId)?.createdAt ?? session.createdAt;
      const person = { ...profile, id: personId, createdAt };
      people.set(personId, person);
      identities.set(key, {
        ...identity,
        personId,
        createdAt: known?.createdAt ?? session.createdAt,
        lastSignInAt: session.createdAt,
      });
      sessions.set(session.id, { ...session, personId });
      const held = new Map<string, ConnectionRecord>();
      if (connection) held.set(connection.provider, { ...connection, personId });
      const before = connections.get(previousSessionId);
      for (const [provider, each] of before ?? []) {
        if (each.personId !== personId || provider === session.provider) continue;
        before?.delete(provider);
        held.set(provider, { ...each, sessionId: session.id });
        moved.set(each.id, session.id);
      }
      connections.set(session.id, held);
      return Promise.resolve({ person, held: removeSession(previousSessionId) });
    },
    findIdentity: (issuer, subject) => Promise.resolve(identities.get(keyOf({ issuer, subject }))),
    findIdentities: (personId) => Promise.resolve(identitiesOf(personId)),
    linkIdentity: ({ sessionId, identity, at, connection }) => {
      const session = sessions.get(sessionId);
      if (!session) return Promise.resolve({ kind: "gone" });
      const { personId } = session;
      const known = identities.get(keyOf(identity));
      if (known && known.personId !== personId) return Promise.resolve({ kind: "taken" });
      identities.set(keyOf(identity), {
        ...identity,
        personId,
        createdAt: known?.createdAt ?? at,
        lastSignInAt: at,
      });
      const held = connections.get(sessionId) ?? new Map<string, ConnectionRecord>();
      const before = held.get(identity.provider);
      if (!connection || (before && before.subject !== connection.subject))
        return Promise.resolve({ kind: "linked", held: [] });
      connections.set(sessionId, held.set(identity.provider, { ...connection, personId }));
      return Promise.resolve({ kind: "linked", held: before ? [before] : [] });
    },
    unlinkIdentity: ({ personId, issuer, subject }, providers) => {
      const own = identitiesOf(personId);
      const gone = own.find((each) => each.issuer === issuer && each.subject === subject);
      if (!gone || !own.some((each) => each !== gone && providers.includes(each.provider))) {
        return Promise.resolve(undefined);
      }
      identities.delete(keyOf(gone));
      const ended = [...sessions.values()]
        .filter((each) => each.issuer === issuer && each.subject === subject)
        .flatMap(({ id }) => removeSession(id));
      const left = [...connections.values()].flatMap((held) => {
        const found = held.get(gone.provider);
        if (found?.personId !== personId || found.subject !== subject) return [];
        held.delete(gone.provider);
        return [found];
      });
      return Promise.resolve([...ended, ...left]);
    },
    findSession: (id) => {
      const session = sessions.get(id);
      const person = session && people.get(session.personId);
      return Promise.resolve(session && person && { session, person });
    },
    findSessions: (query, part = {}) => {
      const wanted = Object.entries(query) as [keyof SessionQuery, string | undefined][];
      const sought = [...sessions.values()].filter((each) =>
        wanted.every(([name, value]) => value === undefined || each[name] === value),
      );
      const found = listed(sought, ({ createdAt }) => createdAt, part).flatMap((session) => {
        const person = people.get(session.personId);
        return person ? [{ session, person }] : [];
      });
      return Promise.resolve(found);
    },
    useMark: (id, expiresAt, now) => {
      if (isMarked(id, now)) return Promise.resolve(false);
      marks.delete(id);
      marks.set(id, expiresAt);
      // Those that came first, for each that comes two: beside a guard nobody else clears them away.
      for (const [each, end] of first(marks, 2, () => true)) if (end <= now) marks.delete(each);
      return Promise.resolve(true);
    },
    isMarked: (id, now) => Promise.resolve(isMarked(id, now)),
    takeLease: (name, owner, seconds) => {
      const before = leases.get(name);
      const now = monotonic();
      if (before && before.endsAt > now) return Promise.resolve({ kind: "held" });
      leasesGiven += 1;
      leases.set(name, { owner, number: leasesGiven, endsAt: now + seconds });
      return Promise.resolve({ kind: before ? "taken over" : "taken", number: leasesGiven });
    },
    releaseLease: (name, owner) => {
      if (leases.get(name)?.owner === owner) leases.delete(name);
      return Promise.resolve();
    },
    removePerson: (personId) => {
      const held = [...sessions.values()]
        .filter((each) => each.personId === personId)
        .flatMap(({ id }) => removeSession(id));
      for (const each of identitiesOf(personId)) identities.delete(keyOf(each));
      people.delete(personId);
      return Promise.resolve([...held, ...dropAll(findAllKept({ personId }))]);
    },
    keepConnection: (record) => {
      const { personId, provider, environment, account } = record;
      const before = dropAll(findAllKept({ personId, provider, environment, account }));
      keptOnes.set(record.id, record);
      return Promise.resolve(before);
    },
    findKept: (id) => Promise.resolve(keptOnes.get(id)),
    findAllKept: (query, part) => Promise.resolve(findAllKept(query, part)),
    touchKept: (id, lastUsedAt) => {
      const found = keptOnes.get(id);
      if (found) keptOnes.set(id, { ...found, lastUsedAt });
      return Promise.resolve();
    },
    dropKept: (id) => {
      const found = keptOnes.get(id);
      keptOnes.delete(id);
      return Promise.resolve(found);
    },
    changeSession: (id, changes) => {
      const session = sessions.get(id);
      if (session) sessions.set(id, { ...session, ...changes });
      return Promise.resolve();
    },
    endSession: (id) => Promise.resolve(removeSession(id)),
    findConnection: (sessionId, provider) => Promise.resolve(connections.get(sessionId)?.get(provider)),
    replaceConnection: (record, lease) => {
      if (lease && leases.get(lease.name)?.number !== lease.number) return Promise.resolve(false);
      const kept = keptOnes.get(record.id);
      if (kept) {
        if (kept.version !== record.version - 1) return Promise.resolve(false);
        keptOnes.set(record.id, { ...kept, ...(record as KeptConnection), ...usedAt(kept) });
        return Promise.resolve(true);
      }
      const sessionId = moved.get(record.id) ?? record.sessionId ?? "";
      const held = connections.get(sessionId);
      const stored = held?.get(record.provider);
      if (stored?.id !== record.id || stored.version !== record.version - 1) return Promise.resolve(false);
      held?.set(record.provider, { ...record, sessionId });
      return Promise.resolve(true);
    },
    sweep: (now, most) => {
      const oldAttempts = first(attempts.values(), most, ({ expiresAt }) => expiresAt <= now);
      const oldSessions = first(sessions.values(), most, ({ expiresAt }) => expiresAt <= now);
      for (const [id, expiresAt] of marks) if (expiresAt <= now) marks.delete(id);
      for (const { id, browserHash, expiresAt } of oldAttempts) {
        attempts.delete(id);
        marks.set(tombstoneOf(id), expiresAt + attemptMemorySeconds);
        if (openAttempts.get(browserHash)?.every((each) => !attempts.has(each.id)) === true)
          openAttempts.delete(browserHash);
      }
      const held = oldSessions.flatMap(({ id }) => removeSession(id));
      return Promise.resolve({ count: oldAttempts.length + oldSessions.length, held });
    },
    close: () => Promise.resolve(),
  };
}

/** Whatever a write is based on, it was used when it was used. */
function usedAt({ lastUsedAt }: KeptConnection): Pick<KeptConnection, "lastUsedAt"> {
  return lastUsedAt === undefined ? {} : { lastUsedAt };
}

/** The newest first, by time, and in one second by when they were written; after one that is gone, those of its second once more. */
function listed<Value extends { readonly id: string }>(
  values: readonly Value[],
  timeOf: (value: Value) => number,
  { most = mostFound, after }: ListPart,
): readonly Value[] {
  const sorted = values.toReversed().sort((left, right) => timeOf(right) - timeOf(left));
  const last = after ? sorted.findIndex(({ id }) => id === after.id) : -1;
  const left =
    after && last < 0 ? sorted.filter((value) => timeOf(value) <= after.at) : sorted.slice(last + 1);
  return left.slice(0, most);
}

function first<Value>(
  values: Iterable<Value>,
  most: number,
  isSought: (value: Value) => boolean,
): readonly Value[] {
  const found: Value[] = [];
  for (const value of values) {
    if (found.length >= most) break;
    if (isSought(value)) found.push(value);
  }
  return found;
}

function keyOf({ issuer, subject }: Pick<IdentityRecord, "issuer" | "subject">): string {
  return JSON.stringify([issuer, subject]);
}
