import Koa from "koa";
import { forKoa } from "tenonsaw/koa";
import { readSettingsFile } from "tenonsaw/node";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const { settings } = readSettingsFile("tenonsaw.config.json");
const signIn = await createSignIn({ ...settings, store: openSqliteStore("app.db") });
const { middleware, protect } = forKoa(signIn);

const signOut = `<form method="post" action="${signIn.signOutPath}"><button>Sign out</button></form>`;
const home = (ctx) => {
  const page = ctx.state.session ? `<a href="/tides">Tides</a> ${signOut}` : `<a href="/sign-in">Sign in</a>`;
  ctx.body = page;
};
const tides = protect(async (ctx) => {
  const answer = await ctx.state.session.fetch("tidebook", "/tides/today"); // with a fresh access token
  ctx.body = await answer.json();
});
const app = new Koa().use(middleware).use((ctx, next) => (ctx.path === "/tides" ? tides : home)(ctx, next));
app.listen(5173, "localhost");
