import { serve } from "@hono/node-server";
import { Hono } from "hono";
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

const app = new Hono().use(async (c, next) => (await signIn.handle(c.req.raw)) ?? next());
app.get("/", async (c) => {
  const session = await signIn.session(c.req.raw);
  if (!session) return signIn.ask(c.req.raw); // to the chooser, and back to this page
  return session.fetch("tidebook", "/tides/today"); // with a fresh access token
});
serve({ fetch: app.fetch, port: 5173, hostname: "localhost" });
