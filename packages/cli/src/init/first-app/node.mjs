import { createServer } from "node:http";
import { nodeListener, readSettingsFile } from "tenonsaw/node";
import { createSignIn, passOn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const { settings } = readSettingsFile("tenonsaw.config.json");
const signIn = await createSignIn({ ...settings, store: openSqliteStore("app.db") });

const signOut = `<form method="post" action="${signIn.signOutPath}"><button>Sign out</button></form>`;
const home = async (request) => {
  const session = await signIn.session(request);
  const page = session ? `<a href="/tides">Tides</a> ${signOut}` : `<a href="/sign-in">Sign in</a>`;
  return new Response(page, { headers: { "content-type": "text/html" } });
};
const tides = signIn.protect(async (_request, session) => {
  return passOn(await session.fetch("tidebook", "/tides/today")); // with a fresh access token
});
const app = (request) => (new URL(request.url).pathname === "/tides" ? tides : home)(request);
createServer(nodeListener(signIn, app)).listen(5173, "localhost");
