import fastify from "fastify";
import { forFastify } from "tenonsaw/fastify";
import { readSettingsFile } from "tenonsaw/node";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const { settings } = readSettingsFile("tenonsaw.config.json");
const signIn = await createSignIn({ ...settings, store: openSqliteStore("app.db") });
const { plugin, protect } = forFastify(signIn);

const app = fastify();
await app.register(plugin);
const signOut = `<form method="post" action="${signIn.signOutPath}"><button>Sign out</button></form>`;
app.get("/", async ({ session }, reply) => {
  reply.type("text/html");
  return session ? `<a href="/tides">Tides</a> ${signOut}` : `<a href="/sign-in">Sign in</a>`;
});
const tides = async ({ session }) => (await session.fetch("tidebook", "/tides/today")).json();
app.get("/tides", protect(tides)); // with a fresh access token
await app.listen({ port: 5173, host: "localhost" });
