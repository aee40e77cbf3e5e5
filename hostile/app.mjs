// The app that is attacked, in a process of its own, so that what it takes up is its own.
import { createServer } from "node:http";
import { monitorEventLoopDelay } from "node:perf_hooks";
import { createSignIn } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/server/node";
import { openPostgresStore } from "tenonsaw/stores/postgres";
import { openRedisStore } from "tenonsaw/stores/redis";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

// A write beyond the limit of a file is an error like that of a full disk, and not the end of the process.
process.on("SIGXFSZ", () => undefined);

const { STORE, PORT, ISSUER, TIDEBOOK, CLIENT_SECRET } = process.env;
const open = STORE.startsWith("redis:")
  ? openRedisStore
  : STORE.startsWith("postgres:")
    ? openPostgresStore
    : openSqliteStore;
const server = createServer();
await new Promise((resolve) => server.listen(Number(PORT), "localhost", resolve));
const origin = `http://localhost:${server.address().port}`;
const events = {};
const signIn = await createSignIn({
  origin,
  keys: Buffer.alloc(32, 1).toString("base64url"),
  store: open(STORE),
  providers: {
    quayside: {
      issuer: ISSUER,
      clientId: "ferrywell",
      clientSecret: CLIENT_SECRET,
      scope: "openid profile offline_access tides.read",
      timeoutSeconds: 2,
    },
  },
  apis: { tidebook: { provider: "quayside", origin: TIDEBOOK } },
  proxies: { header: "forwarded", addresses: ["10.0.0.1"] },
  onConnection: ({ kind }) => (events[kind] = (events[kind] ?? 0) + 1),
});
server.on(
  "request",
  nodeListener(signIn, async (request) => {
    const session = await signIn.session(request);
    if (!session) return new Response("nobody", { status: 401 });
    const answer = await session.fetch("tidebook", "/tides/today");
    return new Response(await answer.text(), { status: answer.status });
  }),
);

const delay = monitorEventLoopDelay({ resolution: 5 });
delay.enable();
let mostMemory = 0;
setInterval(() => (mostMemory = Math.max(mostMemory, process.memoryUsage().rss)), 50);
process.on("message", () => {
  const longest = delay.max / 1e6;
  delay.reset();
  process.send({
    megabytes: Math.round(mostMemory / 2 ** 20),
    delayMilliseconds: Math.round(longest),
    events,
  });
  mostMemory = 0;
});
process.on("disconnect", () => process.exit(0));
process.send({ origin });
