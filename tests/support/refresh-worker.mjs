// One of several processes of one app on one store. It is told to make calls, and says how they went.
import { createPlatform } from "tenonsaw/platform";
import { createSignIn } from "tenonsaw/server";
import { sealingKey } from "../../scripts/sealing-key.mjs";

const { STORE, PLACE, ISSUER, TIDEBOOK, ORIGIN, SESSION, SKEW = "0", PAUSE_AT = "" } = process.env;
/** Milliseconds that every answer of the store takes longer; and whether a network in between sends refreshes twice. */
const { STORE_DELAY = "0", TWICE = "" } = process.env;
/** Whose connected account calls are made with, in place of a session. */
const { PERSON } = process.env;
// The driver of the one store that is asked for: there are a hundred of these processes.
const open = {
  sqlite: async () => (await import("tenonsaw/stores/sqlite")).openSqliteStore(PLACE),
  redis: async () => (await import("tenonsaw/stores/redis")).openRedisStore(PLACE),
  postgres: async () => (await import("tenonsaw/stores/postgres")).openPostgresStore(PLACE),
}[STORE];
let ahead = 0;
const events = [];

/** Says where it is, and stays there until it is killed. */
const pause = async (at) => {
  if (PAUSE_AT !== at) return;
  process.send({ pausedAt: at });
  await new Promise(() => setInterval(() => undefined, 1000));
};
/** Says that it has the lease, and gives whoever hears it the time to stop this process; then goes on. */
const stopWithLease = async () => {
  if (PAUSE_AT !== "with the lease") return;
  process.send({ pausedAt: PAUSE_AT });
  await new Promise((resolve) => setTimeout(resolve, 50));
  Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, 500);
};
const platform = createPlatform({
  monotonic: () => performance.now() / 1000 + ahead,
  now: () => Date.now() / 1000 + ahead + Number(SKEW),
  // A thousand calls at once take some machines longer than an API is waited for; what is tried here is who refreshes.
  deadline: (seconds) => AbortSignal.timeout(Math.ceil((seconds < 30 ? seconds : 300) * 1000)),
  async fetch(url, init) {
    const isRefresh = url.endsWith("/token");
    if (isRefresh) await pause("before the request");
    if (isRefresh && TWICE !== "") await (await fetch(url, init)).body?.cancel();
    const sent = fetch(url, init);
    if (isRefresh && PAUSE_AT === "in flight") {
      await new Promise((resolve) => setTimeout(resolve, 30));
      await pause("in flight");
    }
    const answer = await sent;
    if (isRefresh) await pause("answer received");
    return answer;
  },
});
const opened = slowed(await open(), Number(STORE_DELAY));

let isStopped = false;
const store = {
  ...opened,
  async takeLease(...values) {
    const answer = await opened.takeLease(...values);
    if (answer.kind !== "held" && !isStopped) {
      isStopped = true;
      await stopWithLease();
    }
    return answer;
  },
  async replaceConnection(record, lease) {
    await pause("before the write");
    const written = await opened.replaceConnection(record, lease);
    await pause("after the write");
    return written;
  },
};
const signIn = await createSignIn({
  origin: ORIGIN,
  keys: sealingKey,
  store,
  platform,
  providers: {
    quayside: { issuer: ISSUER, clientId: "ferrywell", clientSecret: "only-for-practice", timeoutSeconds: 4 },
  },
  apis: { tidebook: { provider: "quayside", origin: TIDEBOOK } },
  connections: { quayside: { alsoForSignIn: true } },
  onConnection: ({ kind }) => events.push(kind),
});

process.on("message", async ({ calls, ahead: next }) => {
  ahead = next;
  const request = new Request(ORIGIN, { headers: { cookie: `tenonsaw-session=${SESSION}` } });
  const ask = async () => {
    if (PERSON !== undefined) return signIn.fetchFor(PERSON, "tidebook", "/tides/today");
    const session = await signIn.session(request);
    return session ? session.fetch("tidebook", "/tides/today") : "nobody";
  };
  const call = async () => {
    const startedAt = performance.now();
    try {
      const answer = await (calls > 100 ? askPatiently(ask) : ask());
      if (answer === "nobody") return { outcome: answer };
      await answer.body?.cancel();
      return { outcome: String(answer.status), milliseconds: performance.now() - startedAt };
    } catch (error) {
      return { outcome: error.problem?.code ?? String(error) };
    }
  };
  const results = await Promise.all(Array.from({ length: calls }, call));
  process.send({ outcomes: results.map(({ outcome }) => outcome), events: events.splice(0) });
});
process.send({ ready: true });

/** A thousand at once are too many for some machines' network and store: those ask again. */
async function askPatiently(ask) {
  for (let tries = 1; ; tries += 1) {
    try {
      return await ask();
    } catch (error) {
      const isPassing = error instanceof TypeError || error.problem?.code === "store.unavailable";
      if (!isPassing || tries === 20) throw error;
      await new Promise((resolve) => setTimeout(resolve, 1000));
    }
  }
}

function slowed(store, milliseconds) {
  if (milliseconds === 0) return store;
  const wait = () => new Promise((resolve) => setTimeout(resolve, milliseconds));
  return Object.fromEntries(
    Object.entries(store).map(([name, work]) => [name, async (...given) => (await wait(), work(...given))]),
  );
}
