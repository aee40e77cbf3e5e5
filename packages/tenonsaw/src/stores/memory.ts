import type {
  AttemptRecord,
  ConnectionRecord,
  IdentityRecord,
  PersonRecord,
  SessionQuery,
  SessionRecord,
  Store,
} from "../session/index.js";

const mostSessions = 1000;

/** A store in this process's memory: for tests and trials. Everything is gone when the process ends. */
export function createMemoryStore(): Store {
  const attempts = new Map<string, AttemptRecord>();
  const people = new Map<string, PersonRecord>();
  const identities = new Map<string, IdentityRecord>();
  const sessions = new Map<string, SessionRecord>();
  const marks = new Map<string, number>();
  /** By session, then by provider. */
  const connections = new Map<string, Map<string, ConnectionRecord>>();

  const removeSession = (id: string): readonly ConnectionRecord[] => {
    const held = [...(connections.get(id)?.values() ?? [])];
    sessions.delete(id);
    connections.delete(id);
    return held;
  };

  return {
    addAttempt: (record) => {
      attempts.set(record.id, record);
      return Promise.resolve();
    },
    findAttempt: (id) => Promise.resolve(attempts.get(id)),
    useAttempt: (id, usedAt) => {
      const attempt = attempts.get(id);
      if (!attempt || attempt.usedAt !== undefined) return Promise.resolve(false);
      attempts.set(id, { ...attempt, usedAt });
      return Promise.resolve(true);
    },
    saveSignIn: ({ newPersonId, profile, identity, session, connection }) => {
      const key = JSON.stringify([identity.issuer, identity.subject]);
      const known = identities.get(key);
      const personId = known?.personId ?? newPersonId;
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
      if (connection)
        connections.set(session.id, new Map([[connection.provider, { ...connection, personId }]]));
      return Promise.resolve(person);
    },
    findSession: (id) => {
      const session = sessions.get(id);
      const person = session && people.get(session.personId);
      return Promise.resolve(session && person && { session, person });
    },
    findSessions: (query) => {
      const wanted = Object.entries(query) as [keyof SessionQuery, string | undefined][];
      const found = [...sessions.values()]
        .reverse()
        .filter((each) => wanted.every(([name, value]) => value === undefined || each[name] === value))
        .sort((left, right) => right.createdAt - left.createdAt)
        .slice(0, mostSessions)
        .flatMap((session) => {
          const person = people.get(session.personId);
          return person ? [{ session, person }] : [];
        });
      return Promise.resolve(found);
    },
    useMark: (id, expiresAt, now) => {
      if ((marks.get(id) ?? -Infinity) > now) return Promise.resolve(false);
      marks.set(id, expiresAt);
      return Promise.resolve(true);
    },
    endSession: (id) => Promise.resolve(removeSession(id)),
    findConnection: (sessionId, provider) => Promise.resolve(connections.get(sessionId)?.get(provider)),
    replaceConnection: (record) => {
      const held = connections.get(record.sessionId);
      if (held?.get(record.provider)?.version !== record.version - 1) return Promise.resolve(false);
      held.set(record.provider, record);
      return Promise.resolve(true);
    },
    sweep: (now, attemptsBefore) => {
      const oldAttempts = [...attempts.values()].filter(({ expiresAt }) => expiresAt < attemptsBefore);
      const oldSessions = [...sessions.values()].filter(({ expiresAt }) => expiresAt <= now);
      for (const [id, expiresAt] of marks) if (expiresAt <= now) marks.delete(id);
      for (const { id } of oldAttempts) attempts.delete(id);
      for (const { id } of oldSessions) removeSession(id);
      return Promise.resolve(oldAttempts.length + oldSessions.length);
    },
    close: () => Promise.resolve(),
  };
}
