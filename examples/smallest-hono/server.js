import { serve } from "@hono/node-server";
import { Hono } from "hono";
import { forHono } from "tenonsaw/hono";
import { createSignIn, passOn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const scope = "openid profile offline_access tides.read";
const client = { clientId: "ferrywell", clientSecret: { env: "QUAYSIDE_SECRET" }, scope };
const signIn = await createSignIn({
  origin: "http://localhost:5173",
  store: openSqliteStore("app.db"),
  providers: { quayside: { issuer: "http://localhost:4600", ...client } },
  apis: { tidebook: { provider: "quayside", origin: "http://localhost:4601" } },
});

const { middleware, protect } = forHono(signIn);
const app = new Hono().use(middleware);
const tides = (c, session) => session.fetch("tidebook", "/tides/today").then(passOn);
app.get("/", protect(tides)); // with a fresh access token
serve({ fetch: app.fetch, port: 5173, hostname: "localhost" });
