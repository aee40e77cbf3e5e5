import { Hono } from "hono";
import { addAuthorize } from "./authorize.js";
import { addEndSession } from "./end-session.js";
import { metadata } from "./metadata.js";
import { messagePage } from "./pages.js";
import type { QuaysideState } from "./state.js";
import { addToken } from "./token.js";
import { addUserinfo } from "./userinfo.js";

/** Quayside ID: an OpenID provider that does everything by the book. */
export function createQuayside(state: QuaysideState): Hono {
  const app = new Hono();
  app.get("/", (c) => c.html(messagePage("Quayside ID", "An OpenID provider to practise with.")));
  app.get("/.well-known/openid-configuration", (c) => c.json(metadata(state)));
  app.get("/keys", (c) => c.json({ keys: state.keys.published() }));
  addAuthorize(app, state);
  addToken(app, state);
  addUserinfo(app, state);
  addEndSession(app, state);
  return app;
}
