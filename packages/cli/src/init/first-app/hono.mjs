import { serve } from "@hono/node-server";
import { Hono } from "hono";
import { forHono } from "tenonsaw/hono";
import { readSettingsFile } from "tenonsaw/node";
import { createSignIn, passOn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const { settings } = readSettingsFile("tenonsaw.config.json");
const signIn = await createSignIn({ ...settings, store: openSqliteStore("app.db") });
const { middleware, protect } = forHono(signIn);

const app = new Hono().use(middleware);
const signOut = `<form method="post" action="${signIn.signOutPath}"><button>Sign out</button></form>`;
app.get("/", (c) =>
  c.html(c.var.session ? `<a href="/tides">Tides</a> ${signOut}` : `<a href="/sign-in">Sign in</a>`),
);
const tides = async (c, session) => passOn(await session.fetch("tidebook", "/tides/today"));
app.get("/tides", protect(tides)); // with a fresh access token
serve({ fetch: app.fetch, port: 5173, hostname: "localhost" });
