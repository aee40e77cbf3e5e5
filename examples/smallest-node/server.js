import { createServer } from "node:http";
import { nodeListener } from "tenonsaw/node";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const scope = "openid profile offline_access tides.read";
const client = { clientId: "ferrywell", clientSecret: { env: "QUAYSIDE_SECRET" }, scope };
const signIn = await createSignIn({
  origin: "http://localhost:5173",
  store: openSqliteStore("app.db"),
  providers: { quayside: { issuer: "http://localhost:4600", ...client } },
  apis: { tidebook: { provider: "quayside", origin: "http://localhost:4601" } },
});

const home = signIn.protect(async (request, session) => {
  const tides = await session.fetch("tidebook", "/tides/today"); // with a fresh access token
  return Response.json({ hello: session.person.name, ...(await tides.json()) });
});
createServer(nodeListener(signIn, home)).listen(5173, "localhost");
