// The server's part: the clinic opens the app here; tokens stay here, and the page calls the clinic's record through it.
import { forExpress } from "tenonsaw/express";
import { readSettingsFile } from "tenonsaw/node";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const { SETTINGS: file = "tenonsaw.config.json", DATABASE: database = "app.db" } = process.env;

/** As middleware for Vite, and for every server that knows such. */
export async function signInMiddleware() {
  const { settings } = readSettingsFile(file);
  const signIn = await createSignIn({ ...settings, store: openSqliteStore(database) });
  const policy = `frame-ancestors ${signIn.frameAncestors.join(" ")}`;
  const { middleware } = forExpress(signIn);
  return (request, response, next) => {
    response.setHeader("content-security-policy", policy);
    return middleware(request, response, next);
  };
}
