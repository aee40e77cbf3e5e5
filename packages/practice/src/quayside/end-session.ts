import type { Context, Hono } from "hono";
import { deleteCookie, getCookie } from "hono/cookie";
import { browserCookie } from "./authorize.js";
import { confirmSignOutPage, messagePage, signedOutPage } from "./pages.js";
import { randomText } from "../random-text.js";
import { issuerOf, type Client, type ProviderSession, type QuaysideState } from "./state.js";

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
    const stateBack = query.get("state");
    const next = redirectTo === "" || stateBack === null ? redirectTo : withState(redirectTo, stateBack);
    return leave(c, state, next);
  });

  app.post("/end-session/confirm", async (c) => {
    const redirectTo = (await c.req.formData()).get("post_logout_redirect_uri");
    const known = [...state.clients.values()].flatMap(({ postLogoutRedirectUris }) => postLogoutRedirectUris);
    return leave(c, state, typeof redirectTo === "string" && known.includes(redirectTo) ? redirectTo : "");
  });
}

async function leave(c: Context, state: QuaysideState, redirectTo: string): Promise<Response> {
  const browser = getCookie(c, browserCookie(state)) ?? "";
  const session = state.browsers.get(browser);
  state.browsers.delete(browser);
  deleteCookie(c, browserCookie(state), { path: "/" });
  const clients = [...(session?.clients ?? [])].map((each) => state.clients.get(each.clientId) ?? each);
  if (session) await Promise.all(clients.map((client) => tellClient(state, client, session)));
  const frames = clients.flatMap(({ frontChannelLogoutUri }) => {
    if (frontChannelLogoutUri === undefined || !session) return [];
    const url = new URL(frontChannelLogoutUri);
    url.searchParams.set("iss", issuerOf(state, session.person));
    url.searchParams.set("sid", session.id);
    return [url.href];
  });
  // Front-Channel Logout 1.0 section 3: the frames have to load before the browser goes on.
  if (frames.length > 0) return c.html(signedOutPage(state.brand, frames, redirectTo));
  if (redirectTo !== "") return c.redirect(redirectTo, 303);
  return c.html(messagePage(state.brand, "Signed out", `You are signed out of ${state.brand}.`));
}

/** Back-Channel Logout 1.0 sections 2.4 and 2.5. A client that does not answer does not keep anybody signed in here. */
async function tellClient(state: QuaysideState, client: Client, session: ProviderSession): Promise<void> {
  if (client.backChannelLogoutUri === undefined) return;
  const now = Math.floor(state.now());
  const token = await state.keys.sign(
    {
      iss: issuerOf(state, session.person),
      sub: session.person.subject,
      sid: session.id,
      aud: client.clientId,
      iat: now,
      exp: now + 120,
      jti: randomText(),
      events: { "http://schemas.openid.net/event/backchannel-logout": {} },
    },
    "logout+jwt",
  );
  await fetch(client.backChannelLogoutUri, {
    method: "POST",
    body: new URLSearchParams({ logout_token: token }),
    redirect: "manual",
    signal: AbortSignal.timeout(2000),
  }).catch(() => undefined);
}

/** RP-Initiated Logout 1.0 section 3: the state comes back as it was sent. */
function withState(redirectTo: string, state: string): string {
  const url = new URL(redirectTo);
  url.searchParams.set("state", state);
  return url.href;
}
