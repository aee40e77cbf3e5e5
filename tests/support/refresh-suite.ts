import { fork, type ChildProcess } from "node:child_process";
import { createHash } from "node:crypto";
import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import { fileURLToPath } from "node:url";
import { createClient } from "redis";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import type { Store } from "tenonsaw/server";
import { openPostgresStore } from "tenonsaw/stores/postgres";
import { openRedisStore } from "tenonsaw/stores/redis";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { createVisitor, startPractice, type Practice } from "tenonsaw-practice";
import { startStoreServer, type Server } from "../../scripts/servers.mjs";
import { startApp, type App } from "./start-app.js";

const worker = fileURLToPath(new URL("refresh-worker.mjs", import.meta.url));
/** How many expiries are gone through; `npm run prove` goes through two hundred. */
const expiries = Number(process.env["EXPIRIES"] ?? 15);
/** Access tokens live so long here, in seconds, which is longer than any round takes; each round is beyond that. */
const lifetime = 150;

const kinds = {
  sqlite: { isThere: true, open: openSqliteStore },
  redis: { isThere: process.env["REDIS_SERVER"] !== undefined, open: openRedisStore },
  postgres: { isThere: process.env["POSTGRES_PROGRAMS"] !== undefined, open: openPostgresStore },
} as const;
type Kind = keyof typeof kinds;

interface Answer {
  readonly outcomes: readonly string[];
  readonly events: readonly string[];
}

/** What several processes on one store have to hold to. One file for each store, so that they run side by side. */
export const describeProcesses = (kind: Kind) =>
  describe(`several processes on one store: ${kind}`, () => {
    const { isThere, open } = kinds[kind];
    let folder: string;
    let server: Server | undefined;
    let place: string;
    let store: Store;
    let practice: Practice;
    let app: App;
    let session: string;
    let tokenRequests: number;
    let processes: ChildProcess[];
    let round: number;

    beforeAll(async () => {
      if (!isThere) return;
      folder = await mkdtemp(join(tmpdir(), "tenonsaw-processes-"));
      server = await startStoreServer(kind, process.env);
      place = server?.url ?? join(folder, "ferrywell.db");
      practice = await startPractice({
        algorithm: "ES256",
        lifetimes: { accessTokenSeconds: lifetime },
        log: (line) => {
          if (line.startsWith("quayside: POST /token")) tokenRequests += 1;
        },
      });
    });
    afterAll(async () => {
      if (!isThere) return;
      await practice.stop();
      await server?.stop();
      await rm(folder, { recursive: true });
    });
    beforeEach(async () => {
      if (!isThere) return;
      processes = [];
      round = 0;
      store = await open(place);
      app = await startApp(practice, { connections: { quayside: { alsoForSignIn: true } } }, store);
      session = await signIn();
      tokenRequests = 0;
    });
    /** The session cookie of another browser in which Maren signs in. */
    async function signIn(): Promise<string> {
      const visitor = createVisitor();
      await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
      await visitor.press("Maren");
      await visitor.press("Yes, allow");
      tokenRequests -= 1;
      return visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? "";
    }
    const idOf = (value: string) =>
      createHash("sha256").update(`${app.origin}/sign-in ${value}`).digest("base64url");
    afterEach(async () => {
      if (!isThere) return;
      for (const each of processes) each.kill("SIGKILL");
      await app.stop();
    });

    const next = <Message>(child: ChildProcess) =>
      new Promise<Message>((resolve) => child.once("message", (message) => resolve(message as Message)));
    async function start(env: Readonly<Record<string, string>> = {}): Promise<ChildProcess> {
      const child = fork(worker, {
        env: {
          ...process.env,
          STORE: kind,
          PLACE: place,
          ISSUER: practice.issuer,
          TIDEBOOK: practice.tidebook,
          ORIGIN: app.origin,
          SESSION: session,
          ...env,
        },
      });
      processes.push(child);
      await next(child);
      return child;
    }
    async function callFrom(children: readonly ChildProcess[], calls: number): Promise<Answer> {
      const answers = children.map((child) => next<Answer>(child));
      for (const child of children) child.send({ calls, ahead: round * (lifetime + 1) });
      const all = await Promise.all(answers);
      return {
        outcomes: all.flatMap(({ outcomes }) => outcomes),
        events: all.flatMap(({ events }) => events),
      };
    }
    const connection = () => store.findConnection(idOf(session), "quayside");

    it.skipIf(!isThere)(
      "four of them, a thousand calls with one expired token: one token request, no error",
      async () => {
        const four = await Promise.all([start(), start(), start(), start()]);
        round = 1;
        const { outcomes, events } = await callFrom(four, 250);
        expect(outcomes.filter((each) => each !== "200")).toEqual([]);
        expect(outcomes).toHaveLength(1000);
        expect([tokenRequests, events]).toEqual([1, ["refreshed"]]);
        // And so for many expiries more, against a provider that ends everything when a spent token comes again.
        for (round = 2; round <= expiries + 1; round += 1) {
          const again = await callFrom(four, 1);
          expect([round, again.outcomes.filter((each) => each !== "200")]).toEqual([round, []]);
        }
        expect(tokenRequests).toBe(expiries + 1);
        expect(await connection()).toMatchObject({ status: "active", refreshCount: expiries + 1 });
      },
    );

    it.skipIf(!isThere)("with clocks twenty seconds apart: nothing is refreshed twice for it", async () => {
      const apart = await Promise.all([start({ SKEW: "-10" }), start({ SKEW: "10" })]);
      for (round = 1; round <= 5; round += 1) {
        const { outcomes } = await callFrom(apart, 20);
        expect(outcomes).toEqual(Array(40).fill("200"));
      }
      expect(tokenRequests).toBeLessThanOrEqual(10);
      expect(await connection()).toMatchObject({ status: "active" });
    });

    /** Where it died, what the next one is told, and what that costs. */
    const deaths = [
      ["before the request", "200", ["taken over", "refreshed"]],
      ["after the write", "200", []],
      // The provider has spent the refresh token and nobody knows the new one: it ends what it sees come again.
      ["in flight", "connection.ended", ["taken over", "needs consent"]],
      ["answer received", "connection.ended", ["taken over", "needs consent"]],
      ["before the write", "connection.ended", ["taken over", "needs consent"]],
    ] as const;

    it.skipIf(!isThere)(
      "killed or stopped at each step: the next one goes on, and what is lost the provider took back",
      async () => {
        round = 1;
        // Each death in a session of its own, all at the same time: most of it is waiting for leases to run out.
        const stories = deaths.map(async ([at, outcome, events]) => {
          const own = await signIn();
          const doomed = await start({ PAUSE_AT: at, SESSION: own });
          const paused = next<{ pausedAt: string }>(doomed);
          doomed.send({ calls: 1, ahead: lifetime + 1 });
          expect(await paused).toEqual({ pausedAt: at });
          // What is on its way has to have arrived, so that it is the answer that gets lost.
          if (at === "in flight") await wait(1500);
          doomed.kill("SIGKILL");
          const heir = await start({ SESSION: own });
          expect([at, await callFrom([heir], 1)]).toEqual([at, { outcomes: [outcome], events }]);
          // Whatever became of the connection, the person is signed in still.
          expect(await store.findSession(idOf(own))).toBeDefined();
        });
        // One that is stopped with the lease in its hands, for longer than it lasts, sends nothing when it wakes.
        const stops = async () => {
          const own = await signIn();
          const stopped = await start({ PAUSE_AT: "with the lease", SESSION: own });
          const said = next<{ pausedAt: string }>(stopped);
          stopped.send({ calls: 1, ahead: lifetime + 1 });
          await said;
          stopped.kill("SIGSTOP");
          const heir = await start({ SESSION: own });
          expect(await callFrom([heir], 1)).toEqual({
            outcomes: ["200"],
            events: ["taken over", "refreshed"],
          });
          const woken = next<Answer>(stopped);
          stopped.kill("SIGCONT");
          expect(await woken).toEqual({ outcomes: ["200"], events: [] });
        };
        await Promise.all([...stories, stops()]);
        // One each, and once more with the spent token where the answer was lost.
        expect(tokenRequests).toBe(1 + 1 + 2 + 2 + 2 + 1);
      },
    );

    it.skipIf(!isThere)(
      "four of them with a connected account: forty calls are one token request, and whoever is killed has an heir",
      async () => {
        const visitor = createVisitor();
        visitor.cookies.set("localhost", new Map([["tenonsaw-session", session]]));
        await visitor.open(`${app.origin}/sign-in/connect/quayside?returnTo=/`);
        await visitor.press("Connect Quayside ID");
        await visitor.press("Maren");
        await visitor.press("Yes, allow");
        const [account] = await store.findAllKept({ provider: "quayside" });
        const PERSON = account?.personId ?? "";
        // Signing out takes nothing of it away.
        await store.endSession(idOf(session));
        tokenRequests = 0;
        round = 1;
        const four = await Promise.all([0, 1, 2, 3].map(() => start({ PERSON })));
        const { outcomes, events } = await callFrom(four, 10);
        expect(outcomes).toEqual(Array(40).fill("200"));
        expect([tokenRequests, events]).toEqual([1, ["refreshed"]]);
        for (const [at, told] of [
          ["before the request", ["taken over", "refreshed"]],
          ["after the write", []],
        ] as const) {
          round += 1;
          const doomed = await start({ PERSON, PAUSE_AT: at });
          const paused = next<{ pausedAt: string }>(doomed);
          doomed.send({ calls: 1, ahead: round * (lifetime + 1) });
          expect(await paused).toEqual({ pausedAt: at });
          doomed.kill("SIGKILL");
          const heir = await start({ PERSON });
          expect([at, await callFrom([heir], 1)]).toEqual([at, { outcomes: ["200"], events: told }]);
        }
        expect(await store.findKept(account?.id ?? "")).toMatchObject({ status: "active", refreshCount: 3 });
      },
    );

    // What is the same for all stores is tried on one of them, and by `npm run prove` on all.
    if (kind === "sqlite" || process.env["EXPIRIES"] !== undefined) {
      it.skipIf(!isThere)("with a store that answers slowly: later, once, and without an error", async () => {
        const slow = { STORE_DELAY: "250" };
        const four = await Promise.all([start(slow), start(slow), start(slow), start(slow)]);
        round = 1;
        const { outcomes, events } = await callFrom(four, 10);
        expect(outcomes).toEqual(Array(40).fill("200"));
        expect([tokenRequests, events]).toEqual([1, ["refreshed"]]);
      });

      it.skipIf(!isThere)(
        "with a provider that fails, puts everybody off, and comes back with other keys: nothing is lost",
        async () => {
          const two = await Promise.all([start(), start()]);
          for (const fault of ["token-endpoint-500", "token-endpoint-busy"] as const) {
            round += 10;
            practice.rehearse(fault);
            const { outcomes } = await callFrom(two, 10);
            expect([...new Set(outcomes)].sort().join(" ")).toMatch(
              /^(connection\.busy ?)?(grant\.unavailable)?$/,
            );
            // Each process has asked once, and then left it alone for a while.
            expect(tokenRequests).toBeLessThanOrEqual(2);
            tokenRequests = 0;
          }
          practice.rehearse();
          await practice.rotateKeys();
          round += 10;
          const { outcomes, events } = await callFrom(two, 10);
          expect(outcomes).toEqual(Array(20).fill("200"));
          expect([tokenRequests, events]).toEqual([1, ["refreshed"]]);
        },
      );

      it.skipIf(!isThere)(
        "with a network that sends a refresh twice: the provider takes it back, the person stays signed in",
        async () => {
          const child = await start({ TWICE: "yes" });
          round = 1;
          const { outcomes, events } = await callFrom([child], 10);
          expect([new Set(outcomes), events]).toEqual([new Set(["connection.ended"]), ["needs consent"]]);
          expect(await store.findSession(idOf(session))).toBeDefined();
          // One press repairs it: signing in again, in the same browser.
          session = await signIn();
          expect((await callFrom([await start()], 1)).outcomes).toEqual(["200"]);
        },
      );
    }

    if (kind === "sqlite") return; // a file is not killed, and loses nothing by itself

    it.skipIf(!isThere)("with the store killed and started again: nobody is signed out", async () => {
      const child = await start();
      round = 1;
      expect((await callFrom([child], 5)).outcomes).toEqual(Array(5).fill("200"));
      round = 2;
      await server?.kill();
      const { outcomes } = await callFrom([child], 5);
      expect(new Set(outcomes)).toEqual(new Set(["store.unavailable"]));
      await server?.restart();
      await expect
        .poll(async () => (await callFrom([child], 5)).outcomes, { interval: 200 })
        .toEqual(Array(5).fill("200"));
      expect(tokenRequests).toBe(2);
    });

    if (kind === "postgres") return; // keeps what it has written

    it.skipIf(!isThere)("with a store that has lost everything: signed out, and nothing else", async () => {
      const child = await start();
      const client = createClient({ url: place });
      await client.connect();
      await client.flushAll();
      await client.close();
      round = 1;
      expect(await callFrom([child], 5)).toEqual({ outcomes: Array(5).fill("nobody"), events: [] });
      expect(tokenRequests).toBe(0);
    });
  });
