import { parseUrl } from "../platform/index.js";
import { createHash } from "node:crypto";
import QuickLRU from "quick-lru";
import { ErrorReply } from "redis";
import {
  mostFound,
  tombstoneOf,
  type AttemptRecord,
  type ConnectionRecord,
  type FoundSession,
  type IdentityRecord,
  type KeptConnection,
  type KeptQuery,
  type ListPart,
  type PersonRecord,
  type SessionQuery,
  type SessionRecord,
  type Store,
} from "../session/index.js";
import { createBudget, storeBudget, keepsItsBudget, type Budget } from "./budget.js";
import { refuseAddress, requireOptions } from "./given.js";
import { createLink, type RedisLink } from "./redis-link.js";
import { scripts } from "./redis-scripts.js";

/** All keys begin with it; the braces keep them in one slot of a cluster, where scripts can change several at once. */
const prefix = "{tenonsaw}:";
/** Two keys that are never there: as long as a cluster moves their slot to another node, it refuses what names both. */
const slotKeys = [prefix, `${prefix}never`];
/** A slot that is being moved is asked again so soon, until the call's time is over. */
const movingMilliseconds = 50;

/** How a store in Redis is to be kept. */
export interface RedisStoreOptions {
  /**
   * So many replicas have what was written before it counts; a write that does not reach them within a second fails with
   * store.unavailable. Default: 0, and what a server has just written is lost with it.
   */
  readonly replicas?: number;
}

/**
 * Opens a store in a Redis server, or in a cluster by one of its nodes. Many processes on many machines may share it. Needs
 * the package `redis` beside this one. What is over expires by itself. A server that loses its data signs everybody out, and
 * does no more than that.
 *
 * @param url such as redis://host:6379/0 or rediss://…
 * @throws store.unavailable
 */
export async function openRedisStore(url: string, options: RedisStoreOptions = {}): Promise<Store> {
  // The driver's own words for it would repeat the password.
  const parsed = parseUrl(url);
  if (!parsed || !/^rediss?:\/\//i.test(url)) refuseAddress("Redis", url);
  requireOptions(
    options,
    { replicas: (value) => Number.isSafeInteger(value) && Number(value) >= 0 },
    "options with replicas, a whole number, 0 or more, and nothing else",
  );
  const { host, pathname } = parsed;
  const link = createLink(url, prefix);
  const budget = createBudget(`Redis at ${host}${pathname}`, link.renew, storeBudget, link.said);
  let evictsBy: string | undefined;
  try {
    evictsBy = await budget.ask(async () => {
      await link.open();
      return link.evictsBy();
    });
  } catch (error) {
    link.destroy();
    throw error;
  }
  const asking: Budget["ask"] = (work) =>
    budget.ask(async (call) => {
      for (;;) {
        try {
          return await work(call);
        } catch (error) {
          const isMoving = error instanceof ErrorReply && error.message.startsWith("TRYAGAIN");
          if (!isMoving || call.isOver) {
            if (!(error instanceof NotReplicated)) link.failed(error);
            throw error;
          }
          await new Promise((resolve) => setTimeout(resolve, movingMilliseconds));
        }
      }
    });
  return keepsItsBudget({
    ...createStore(link, asking, options),
    ...(evictsBy !== undefined && { evictsBy }),
  });
}

/** By what the server knows the scripts again (EVALSHA). */
const hashes = Object.fromEntries(
  Object.entries(scripts).map(([name, text]) => [name, createHash("sha1").update(text).digest("hex")]),
) as Record<keyof typeof scripts, string>;

/** A write that counts for nothing: whoever said so is there, and answers whoever reads. */
class NotReplicated extends Error {}

function createStore(link: RedisLink, asking: Budget["ask"], { replicas = 0 }: RedisStoreOptions): Store {
  /** Whose a session is never changes: where it is known, both records come at once. */
  const owners = new QuickLRU<string, string>({ maxSize: 10_000 });
  const read = async (key: string): Promise<unknown> => {
    const text = await link.client.get(prefix + key);
    return text === null ? undefined : JSON.parse(text);
  };
  const evaluate = async (script: keyof typeof scripts, values: readonly (string | number)[]) => {
    const given = { keys: slotKeys, arguments: values.map(String) };
    try {
      return await link.client.evalSha(hashes[script], given);
    } catch (error) {
      // A server that has not seen the script, or was restarted since.
      if (!(error instanceof Error) || !error.message.startsWith("NOSCRIPT")) throw error;
      return link.client.eval(scripts[script], given);
    }
  };
  const run = async (script: keyof typeof scripts, ...values: readonly (string | number)[]) => {
    const result = await evaluate(script, values);
    if (replicas === 0 || script === "findSession") return result;
    const reached = await link.replicated(replicas);
    if (reached < replicas)
      throw new NotReplicated(`what was written has reached ${reached} of ${replicas} replicas`);
    return result;
  };
  const parseAll = (texts: unknown): ConnectionRecord[] =>
    (texts as string[]).map((text) => JSON.parse(text) as ConnectionRecord);
  /** Several records in one round trip; those that are not there are left out. */
  const readAll = async (names: readonly string[]): Promise<unknown[]> => {
    if (names.length === 0) return [];
    const texts = await link.client.mGet(names.map((name) => prefix + name));
    return texts.filter((text) => text != null).map((text) => JSON.parse(text) as unknown);
  };
  const readKept = async (ids: readonly string[]): Promise<KeptConnection[]> => {
    const texts = await link.client.mGet(
      ids.flatMap((id) => [`${prefix}kept:${id}`, `${prefix}kept-used:${id}`]),
    );
    return ids.flatMap((_, index) => {
      const [text, usedAt] = texts.slice(2 * index);
      if (text == null) return [];
      return [
        { ...(JSON.parse(text) as KeptConnection), ...(usedAt != null && { lastUsedAt: Number(usedAt) }) },
      ];
    });
  };
  const withPeople = async (ids: readonly string[]): Promise<FoundSession[]> => {
    const sessions = (await readAll(ids.map((id) => `session:${id}`))) as SessionRecord[];
    const owners = [...new Set(sessions.map(({ personId }) => `person:${personId}`))];
    const people = new Map(((await readAll(owners)) as PersonRecord[]).map((person) => [person.id, person]));
    return sessions.flatMap((session) => {
      const person = people.get(session.personId);
      return person ? [{ session, person }] : [];
    });
  };

  /** The newest first; after a record that is gone, those of its second come once more. */
  const listed = async <Found>(
    index: string,
    { most = mostFound, after }: ListPart,
    readAndSift: (ids: readonly string[]) => Promise<Found[]>,
  ): Promise<Found[]> => {
    const { client } = link;
    const placeAfter = async ({ id, at }: NonNullable<ListPart["after"]>) => {
      const rank = await client.zRevRank(prefix + index, id);
      return rank === null ? client.zCount(prefix + index, at + 1, "+inf") : rank + 1;
    };
    const found: Found[] = [];
    for (let at = after ? await placeAfter(after) : 0; found.length < most; at += mostFound) {
      const ids = await client.zRange(prefix + index, at, at + mostFound - 1, { REV: true });
      if (ids.length === 0) break;
      found.push(...(await readAndSift(ids)));
    }
    return found.slice(0, most);
  };

  return {
    addAttempt: (record, mostOpen) =>
      asking(async () => {
        const { id, browserHash, beganAt } = record;
        const [text, ends] = [JSON.stringify(record), Math.ceil(record.expiresAt)];
        await run("addAttempt", id, text, ends, browserHash, beganAt, mostOpen, tombstoneOf(id));
      }),
    findAttempt: (id) =>
      asking(async () => {
        const [text, usedAt] = await link.client.mGet([
          `${prefix}attempt:${id}`,
          `${prefix}attempt-used:${id}`,
        ]);
        if (text == null) return undefined;
        const record = JSON.parse(text) as AttemptRecord;
        return usedAt == null ? record : { ...record, usedAt: Number(usedAt) };
      }),
    useAttempt: (id, usedAt) => asking(async () => (await run("useAttempt", id, Math.floor(usedAt))) === 1),
    saveSignIn: (records) =>
      asking(async () => {
        const { personId, profile, identity, session, connection, previousSessionId = "" } = records;
        const key = identityKey(identity);
        const [known, before] = (await Promise.all([read(key), read(`person:${personId}`)])) as [
          IdentityRecord | undefined,
          PersonRecord | undefined,
        ];
        const { createdAt } = session;
        const person = { id: personId, ...profile, createdAt: before?.createdAt ?? createdAt };
        const noted = {
          ...identity,
          personId,
          createdAt: known?.createdAt ?? createdAt,
          lastSignInAt: createdAt,
        };
        const held = await run(
          "saveSignIn",
          key,
          JSON.stringify(noted),
          JSON.stringify(person),
          JSON.stringify({ ...session, personId }),
          connection ? JSON.stringify({ ...connection, personId }) : "",
          previousSessionId,
        );
        return held === null ? undefined : { person, held: parseAll(held) };
      }),
    findSession: (id) =>
      asking(async () => {
        const owner = owners.get(id);
        const found =
          owner === undefined
            ? await run("findSession", id)
            : await link.client.mGet([`${prefix}session:${id}`, `${prefix}person:${owner}`]);
        const [session, person] = (found ?? []) as (string | null | undefined)[];
        if (session == null || person == null) return undefined;
        const records = {
          session: JSON.parse(session) as SessionRecord,
          person: JSON.parse(person) as PersonRecord,
        };
        if (owner === undefined) owners.set(id, records.person.id);
        return records;
      }),
    findSessions: (query, part = {}) =>
      asking(() => {
        const wanted = Object.entries(query) as [keyof SessionQuery, string | undefined][];
        return listed(indexOf(query), part, async (ids) =>
          (await withPeople(ids)).filter(({ session }) =>
            wanted.every(([name, value]) => value === undefined || session[name] === value),
          ),
        );
      }),
    findIdentity: (issuer, subject) =>
      asking(() => read(identityKey({ issuer, subject })) as Promise<IdentityRecord | undefined>),
    findIdentities: (personId) =>
      asking(async () => {
        const keys = await link.client.zRange(`${prefix}identities:${personId}`, 0, -1);
        const found = await Promise.all(keys.map(read));
        return found.filter((each) => each !== undefined) as IdentityRecord[];
      }),
    linkIdentity: ({ sessionId, identity, at, connection }) =>
      asking(async () => {
        const session = (await read(`session:${sessionId}`)) as SessionRecord | undefined;
        if (!session) return { kind: "gone" };
        const { personId } = session;
        const known = (await read(identityKey(identity))) as IdentityRecord | undefined;
        const noted = { ...identity, personId, createdAt: known?.createdAt ?? at, lastSignInAt: at };
        const [kind, ...held] = (await run(
          "linkIdentity",
          sessionId,
          personId,
          identityKey(identity),
          JSON.stringify(noted),
          connection ? JSON.stringify({ ...connection, personId }) : "",
        )) as ["linked" | "taken" | "gone", ...string[]];
        return kind === "linked" ? { kind, held: parseAll(held) } : { kind };
      }),
    unlinkIdentity: ({ personId, issuer, subject }, providers) =>
      asking(async () => {
        const held = await run(
          "unlinkIdentity",
          personId,
          issuer,
          subject,
          identityKey({ issuer, subject }),
          JSON.stringify(providers),
        );
        return held === null ? undefined : parseAll(held);
      }),
    changeSession: (id, changes) =>
      asking(async () => {
        for (;;) {
          const text = await link.client.get(`${prefix}session:${id}`);
          // Only over what is still there, as it was read: a session that has ended meanwhile stays ended.
          if (text == null) return;
          const changed = JSON.stringify({ ...(JSON.parse(text) as SessionRecord), ...changes });
          if ((await run("changeSession", id, text, changed)) === 1) return;
        }
      }),
    endSession: (id) => asking(async () => parseAll(await run("endSession", id))),
    removePerson: (personId) => asking(async () => parseAll(await run("removePerson", personId))),
    keepConnection: (record) =>
      asking(async () => {
        const { id, personId, connectedAt } = record;
        const text = JSON.stringify(record);
        return parseAll(
          await run("keepConnection", id, personId, accountKey(record), connectedAt, text),
        ) as KeptConnection[];
      }),
    findKept: (id) =>
      asking(async () => {
        const [found] = await readKept([id]);
        return found;
      }),
    findAllKept: (query, part = {}) =>
      asking(() => {
        const wanted = Object.entries(query) as [keyof KeptQuery, string | undefined][];
        const index = query.personId === undefined ? "kept" : `kept-of:${query.personId}`;
        return listed(index, part, async (ids) =>
          (await readKept(ids)).filter((each) =>
            wanted.every(([name, value]) => value === undefined || each[name] === value),
          ),
        );
      }),
    touchKept: (id, lastUsedAt) =>
      asking(async () => {
        await run("touchKept", id, Math.floor(lastUsedAt));
      }),
    dropKept: (id) =>
      asking(async () => {
        const [found] = await readKept([id]);
        return (await run("dropKept", id)) === null ? undefined : found;
      }),
    useMark: (id, expiresAt, now) =>
      asking(async () => (await run("useMark", id, Math.ceil(expiresAt), Math.floor(now))) === 1),
    isMarked: (id, now) =>
      asking(async () => Number((await link.client.get(`${prefix}mark:${id}`)) ?? 0) > Math.floor(now)),
    takeLease: (name, owner, seconds, room = 0) =>
      asking(async () => {
        const milliseconds = Math.ceil(seconds * 1000);
        const [kind, number = 0] = (await run("takeLease", name, owner, milliseconds, room)) as [
          "taken" | "taken over" | "held",
          number?,
        ];
        return kind === "held" ? { kind } : { kind, number };
      }),
    releaseLease: (name, owner) =>
      asking(async () => {
        await run("releaseLease", name, owner);
      }),
    findConnection: (sessionId, provider) =>
      asking(async () => {
        const text = await link.client.hGet(`${prefix}connections:${sessionId}`, provider);
        return text == null ? undefined : { ...(JSON.parse(text) as ConnectionRecord), sessionId };
      }),
    replaceConnection: (record, lease) =>
      asking(
        async () =>
          (await run(
            "replaceConnection",
            record.sessionId ?? "",
            record.provider,
            record.id,
            record.version - 1,
            JSON.stringify(record),
            ...(lease ? [lease.name, lease.number] : []),
          )) === 1,
      ),
    sweep: (now, most) =>
      asking(async () => {
        const [count, held] = (await run("sweep", Math.floor(now), most)) as [number, unknown];
        return { count, held: parseAll(held) };
      }),
    close: () => asking(link.close),
  };
}

function identityKey({ issuer, subject }: Pick<IdentityRecord, "issuer" | "subject">): string {
  return `identity:${issuer} ${subject}`;
}

/** Of one account there is one connection a person. */
function accountKey({ personId, provider, environment, account }: KeptConnection): string {
  return JSON.stringify([personId, provider, environment, account]);
}

/** The index that leads to the fewest sessions. */
function indexOf({ personId, issuer, subject, providerSessionId }: SessionQuery): string {
  if (personId !== undefined) return `sessions-of:${personId}`;
  if (issuer !== undefined && subject !== undefined) return `sessions-by:${issuer} ${subject}`;
  if (issuer !== undefined && providerSessionId !== undefined)
    return `sessions-by-sid:${issuer} ${providerSessionId}`;
  return "sessions";
}
