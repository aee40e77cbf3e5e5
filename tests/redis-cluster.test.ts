import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { isProblem } from "tenonsaw/problem";
import type { Store } from "tenonsaw/server";
import { openRedisStore } from "tenonsaw/stores/redis";
import { startRedisCluster, type RedisCluster } from "../scripts/servers.mjs";
import type { SignInRecords } from "../packages/tenonsaw/src/session/store.js";
import { storeContract } from "../packages/tenonsaw/src/stores/contract.js";
import { noon, problemOf } from "./support/fake-world.js";

const redisServer = process.env["REDIS_SERVER"];
const key = "{tenonsaw}:";
const issuer = "https://id.quayside.example";
const later = 4_000_000_000;

/** Person, identity, session and connection `id`, all at once. */
function signIn(id: string): SignInRecords {
  const identity = { issuer, subject: `qs-${id}`, provider: "quayside" };
  const connection = {
    id: `c-${id}`,
    sessionId: id,
    provider: "quayside",
    subject: `qs-${id}`,
    scope: "tides.read",
    status: "active",
    obtainedAt: noon,
    refreshCount: 0,
    sealedAccessToken: "at..sealed",
    version: 1,
  } as const;
  const session = { id, ...identity, createdAt: noon, expiresAt: later };
  return { personId: `person-${id}`, profile: { name: id }, identity, session, connection };
}

/** What an app does all day, until it is told to stop; keeps account of what it was told. */
function work(store: Store) {
  const done = { signedIn: [] as string[], renewals: 1, refusals: [] as string[] };
  let isOver = false;
  const attempt = async (round: number, what: () => Promise<unknown>) => {
    try {
      await what();
    } catch (error) {
      if (!isProblem(error)) throw error;
      done.refusals.push(`${error.problem.code}: ${error.problem.received ?? ""}`);
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
    return round + 1;
  };
  const until = async (step: (round: number) => Promise<unknown>) => {
    for (let round = 0; !isOver;) round = await attempt(round, () => step(round));
  };
  const running = Promise.all([
    until(async (round) => {
      expect(await store.saveSignIn(signIn(`new-${round}`))).toBeDefined();
      done.signedIn.push(`new-${round}`);
    }),
    until(async () => {
      const found = await store.findConnection("first", "quayside");
      // What had no answer may have been done all the same.
      done.renewals = Math.max(done.renewals, found?.version ?? 0);
      const isWritten = await store.replaceConnection({ ...found!, version: found!.version + 1 });
      expect(isWritten).toBe(true);
      done.renewals = found!.version + 1;
    }),
    until(async (round) => {
      const name = `mark-${round}`;
      const uses = await Promise.all([1, 2, 3].map(() => store.useMark(name, later, noon)));
      expect(uses.filter(Boolean)).toHaveLength(1);
    }),
    until(async () => {
      expect((await store.findSession("first"))?.person.name).toBe("first");
    }),
  ]);
  return {
    done,
    stop: async () => {
      isOver = true;
      await running;
    },
  };
}

/** Waits until more has been done than there was. */
async function isUnderWay({ signedIn }: ReturnType<typeof work>["done"], before = 0) {
  await expect.poll(() => signedIn.length).toBeGreaterThan(before + 10);
}

/** Nothing is missing of what it was said that it is written. */
async function checkAll(store: Store, { signedIn, renewals }: ReturnType<typeof work>["done"]) {
  expect(renewals).toBeGreaterThan(1);
  for (const id of signedIn) {
    expect((await store.findSession(id))?.person.name).toBe(id);
    expect(await store.findConnection(id, "quayside")).toBeDefined();
    expect((await store.findIdentity(issuer, `qs-${id}`))?.personId).toBe(`person-${id}`);
  }
  expect((await store.findConnection("first", "quayside"))?.version).toBeGreaterThanOrEqual(renewals);
}

describe.skipIf(redisServer === undefined)("the store in a Redis Cluster", () => {
  let cluster: RedisCluster;
  let store: Store | undefined;
  beforeAll(async () => {
    cluster = await startRedisCluster(redisServer ?? "", key);
  });
  afterAll(() => cluster.stop());
  beforeEach(() => cluster.clear());
  afterEach(async () => {
    await store?.close();
    store = undefined;
  });

  it.each(storeContract)("$name", ({ run }) => run(() => openRedisStore(cluster.url)));

  it("counts nothing as written that its replica does not have, where that is asked for", async () => {
    store = await openRedisStore(cluster.url, { replicas: 1 });
    await store.saveSignIn(signIn("first"));
    cluster.pauseFollower();
    const { code, received } = await problemOf(() => store?.saveSignIn(signIn("second")));
    // Whoever refuses a write is there, and answers whoever reads.
    expect((await store.findSession("first"))?.session.id).toBe("first");
    cluster.resumeFollower();
    expect([code, received]).toEqual([
      "store.unavailable",
      expect.stringContaining("has reached 0 of 1 replicas") as string,
    ]);
    await expect.poll(() => store?.saveSignIn(signIn("third")).catch(() => undefined)).toBeDefined();
  });

  it("does everything once, and loses nothing, while its slot moves to another node", async () => {
    store = await openRedisStore(cluster.url);
    await store.saveSignIn(signIn("first"));
    for (let index = 0; index < 50; index += 1) await store.saveSignIn(signIn(`old-${index}`));
    const { done, stop } = work(store);
    await isUnderWay(done);
    await cluster.moveSlot(() => new Promise((resolve) => setTimeout(resolve, 5)));
    await isUnderWay(done, done.signedIn.length);
    await stop();
    // A machine that is busy with other things may be too late; nothing is refused because of the move.
    const isLate = /no answer within|has not answered for a while/;
    expect(done.refusals.filter((each) => !isLate.test(each))).toEqual([]);
    await checkAll(store, done);
    expect((await store.findSession("old-40"))?.person.name).toBe("old-40");
  });
});

describe.skipIf(redisServer === undefined)("the store in a Redis Cluster that loses a node", () => {
  it("loses nothing that a replica was to have, and finds who took over", async () => {
    const cluster = await startRedisCluster(redisServer ?? "", key);
    const store = await openRedisStore(cluster.url, { replicas: 1 });
    try {
      await store.saveSignIn(signIn("first"));
      const { done, stop } = work(store);
      await isUnderWay(done);
      await cluster.failOver();
      await stop();
      expect(new Set(done.refusals.map((each) => each.split(":")[0]))).toEqual(
        new Set(["store.unavailable"]),
      );
      // Nobody follows any more: what asks for a replica waits for one, and what does not goes on.
      const next = await openRedisStore(cluster.url).catch((error: unknown) => error as Error);
      expect(next).toMatchObject({ problem: { code: "store.unavailable" } });
      await expect.poll(() => store.findSession("first").catch(() => undefined)).toBeDefined();
      await checkAll(store, done);
    } finally {
      await store.close();
      await cluster.stop();
    }
  });
});
