import express from "express";
import { forExpress } from "tenonsaw/express";
import { readSettingsFile } from "tenonsaw/node";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const { settings } = readSettingsFile("tenonsaw.config.json");
const signIn = await createSignIn({ ...settings, store: openSqliteStore("app.db") });
const { middleware, protect, problems } = forExpress(signIn);

const app = express().use(middleware);
const signOut = `<form method="post" action="${signIn.signOutPath}"><button>Sign out</button></form>`;
app.get("/", ({ session }, response) => {
  response.send(session ? `<a href="/tides">Tides</a> ${signOut}` : `<a href="/sign-in">Sign in</a>`);
});
const tides = protect(async ({ session }, response) => {
  const answer = await session.fetch("tidebook", "/tides/today"); // with a fresh access token
  response.json(await answer.json());
});
app.get("/tides", tides).use(problems).listen(5173, "localhost");
