import type { Context, Hono } from "hono";
import { deleteCookie, getCookie } from "hono/cookie";
import { browserCookie } from "./authorize.js";
import { confirmSignOutPage, messagePage } from "./pages.js";
import type { QuaysideState } from "./state.js";

/** The end session endpoint: OpenID Connect RP-Initiated Logout 1.0 sections 2 and 3. */
export function addEndSession(app: Hono, state: QuaysideState): void {
  app.get("/end-session", async (c) => {
    const query = new URL(c.req.url).searchParams;
    const redirectTo = query.get("post_logout_redirect_uri") ?? "";
    const hint = await state.keys.read(query.get("id_token_hint") ?? "");
    const client = state.clients.get(
      typeof hint?.["aud"] === "string" ? hint["aud"] : (query.get("client_id") ?? ""),
    );
    // 3: only to a registered address of the client that the hint or client_id names.
    if (redirectTo !== "" && !client?.postLogoutRedirectUris.includes(redirectTo)) {
      return c.html(messagePage(state.brand, "Sign-out return URI not registered", redirectTo), 400);
    }
    // 2: without a hint that was issued here, the person is asked first.
    if (!hint) return c.html(confirmSignOutPage(state.brand, redirectTo));
    return leave(c, state, redirectTo);
  });

  app.post("/end-session/confirm", async (c) => {
    const redirectTo = (await c.req.formData()).get("post_logout_redirect_uri");
    const known = [...state.clients.values()].flatMap(({ postLogoutRedirectUris }) => postLogoutRedirectUris);
    return leave(c, state, typeof redirectTo === "string" && known.includes(redirectTo) ? redirectTo : "");
  });
}

function leave(c: Context, state: QuaysideState, redirectTo: string): Response | Promise<Response> {
  state.browsers.delete(getCookie(c, browserCookie(state)) ?? "");
  deleteCookie(c, browserCookie(state), { path: "/" });
  if (redirectTo === "")
    return c.html(messagePage(state.brand, "Signed out", `You are signed out of ${state.brand}.`));
  return c.redirect(redirectTo, 303);
}
