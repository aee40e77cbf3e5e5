// The app that the long runs load and attack, for a process of its own: a person's page needs a call to an API.
import { createServer } from "node:http";
import { createSignIn } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { openPostgresStore } from "tenonsaw/stores/postgres";
import { openRedisStore } from "tenonsaw/stores/redis";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

/** Starts it as the environment says; `events` counts what happens to connections. */
export async function startAppUnderLoad(settings = {}, client = {}) {
  const { STORE, PORT = "0", ISSUER, TIDEBOOK, CLIENT_SECRET } = process.env;
  const open = /^rediss?:/.test(STORE)
    ? openRedisStore
    : /^postgres/.test(STORE)
      ? openPostgresStore
      : openSqliteStore;
  const server = createServer();
  await new Promise((resolve) => server.listen(Number(PORT), "localhost", resolve));
  const origin = `http://localhost:${server.address().port}`;
  const store = await open(STORE);
  const events = {};
  const signIn = await createSignIn({
    origin,
    keys: Buffer.alloc(32, 1).toString("base64url"),
    store,
    providers: {
      quayside: {
        issuer: ISSUER,
        clientId: "ferrywell",
        clientSecret: CLIENT_SECRET,
        scope: "openid profile email offline_access tides.read",
        ...client,
      },
    },
    apis: { tidebook: { provider: "quayside", origin: TIDEBOOK } },
    onConnection: ({ kind }) => (events[kind] = (events[kind] ?? 0) + 1),
    ...settings,
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
  return { origin, store, events };
}
