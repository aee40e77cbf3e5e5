import { createServer } from "node:http";
import { createSignIn } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/server/node";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const { PORT = "5173", ISSUER = "http://localhost:4600", TIDEBOOK = "http://localhost:4601" } = process.env;

const signIn = await createSignIn({
  origin: `http://localhost:${PORT}`,
  keys: { env: "APP_KEYS" },
  store: openSqliteStore(process.env.DATABASE ?? "app.db"),
  providers: {
    quayside: {
      issuer: ISSUER,
      clientId: "ferrywell",
      clientSecret: { env: "QUAYSIDE_SECRET" },
      scope: "openid profile offline_access tides.read",
    },
  },
  apis: { tidebook: { provider: "quayside", origin: TIDEBOOK } },
});

const app = async (request) => {
  const session = await signIn.session(request);
  if (!session) return signIn.ask(request); // to the chooser, and back to this page
  const tides = await session.fetch("tidebook", "/tides/today");
  return Response.json({ hello: session.person.name, tides: await tides.json() });
};

createServer(nodeListener(signIn, app)).listen(Number(PORT), "localhost");
