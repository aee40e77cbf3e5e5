import { unsealGrant } from "../connection/index.js";
import { revokeGrant } from "../grant/index.js";
import { fail, isProblem } from "../problem/index.js";
import { endSession, endSessions, randomId, type ConnectionRecord } from "../session/index.js";
import { equalInConstantTime, note } from "../trace/index.js";
import { routes, type Context } from "./context.js";
import { requireOwnPage } from "./own-page.js";
import { sessionOf } from "./session-of.js";

/** A form has a field or two. */
const longestForm = 4096;

/**
 * Signs out here, or with the field `everywhere` in all of the person's browsers, takes the tokens back, and goes on to
 * the provider's own sign-out: OpenID Connect RP-Initiated Logout 1.0 section 2. Here comes first and always happens; what the provider does not do is traced.
 *
 * @throws session.other-origin, store.unavailable
 */
export async function signOutRoute(context: Context, request: Request): Promise<Response> {
  const { tools, settings, cookies, answers } = context;
  requireOwnPage(context, request);
  const value = cookies.read(request, "session");
  const text = await request.text();
  if (text.length > longestForm)
    fail("server.request-too-large", { received: `a form of ${text.length} characters` });
  const found = await sessionOf(context, request);
  const signedInWith = found?.session.provider;
  const isEverywhere = found !== undefined && new URLSearchParams(text).has("everywhere");
  const ended = [
    ...(isEverywhere ? await endSessionsOf(context, found.person.id) : []),
    ...(value === undefined ? [] : await endSession(context, value)),
  ];
  note(tools, "server", "signed out", { connections: String(ended.length) });
  // The browser can go on to one provider only: to the one that was signed in with.
  const isFirst = ({ provider }: ConnectionRecord) => Number(provider === signedInWith);
  const next = await leaveProvider(
    context,
    ended.toSorted((left, right) => isFirst(right) - isFirst(left)),
  );
  if (next === undefined)
    return forgetting(
      answers.redirect(settings.origin + settings.pages.signedOut, [cookies.clear("session")]),
    );
  // RP-Initiated Logout section 3: what comes back with this state is the end of this sign-out.
  const state = randomId(tools.platform, 32);
  const url = new URL(next);
  url.searchParams.set("state", state);
  return forgetting(
    answers.redirect(url.href, [cookies.clear("session"), cookies.write("sign-out", state, signOutSeconds)]),
  );
}

/**
 * Ends all sessions of a person; what they held is returned.
 *
 * @throws store.in-browser where sessions are kept there, store.unavailable
 */
export async function endSessionsOf(
  { store, browserStore }: Context,
  personId: string,
): Promise<readonly ConnectionRecord[]> {
  if (browserStore) fail("store.in-browser", { received: "a person's sessions in all browsers" });
  return (await endSessions({ store }, { personId })).held;
}

/** What the browser has kept of this app's pages goes as well: W3C Clear Site Data, section 3.1. */
function forgetting(response: Response): Response {
  response.headers.set("clear-site-data", '"cache"');
  return response;
}

/** How long a person may take at the provider's own sign-out. */
const signOutSeconds = 600;

/**
 * Back from the provider's sign-out. Here everything is over already; a state that does not fit says that somebody
 * else sent the browser, which is traced and changes nothing.
 */
export function signedOutRoute({ tools, settings, cookies, answers }: Context, request: Request): Response {
  const state = new URL(request.url).searchParams.get("state") ?? "";
  const expected = cookies.read(request, "sign-out") ?? "";
  const fits = expected !== "" && equalInConstantTime(state, expected);
  note(tools, "server", fits ? "signed out at the provider" : "back from a sign-out that was not begun here");
  return answers.redirect(settings.origin + settings.pages.signedOut, [cookies.clear("sign-out")]);
}

/** Revokes the tokens; returns where to sign out at the provider of the first connection that can. */
export async function leaveProvider(
  context: Context,
  connections: readonly ConnectionRecord[],
): Promise<string | undefined> {
  const { atProvider, revokeTokens } = context.settings.signOut;
  // Nothing to ask anybody: no provider is opened, and no token unsealed, for it.
  if (!atProvider && !revokeTokens) return undefined;

  let next: string | undefined;
  // OAuth 1.0a knows neither sign-out nor revocation.
  for (const connection of connections.filter(({ sealedTokenSecret }) => sealedTokenSecret === undefined)) {
    try {
      const provider = await context.providers.open(connection.provider);
      const grant = await unsealGrant(context, connection, provider);
      const endpoint = provider.metadata.end_session_endpoint;
      if (endpoint !== undefined && atProvider) {
        const url = new URL(endpoint);
        if (grant.idToken !== undefined) url.searchParams.set("id_token_hint", grant.idToken);
        url.searchParams.set("client_id", provider.clientId);
        url.searchParams.set("post_logout_redirect_uri", routes(context.settings).signedOut);
        next ??= url.href;
      }
      if (revokeTokens) await revokeGrant(provider, grant);
    } catch (error) {
      if (!isProblem(error)) throw error;
      note(context.tools, "server", "tokens not revoked", { problem: error.problem.code });
    }
  }
  return next;
}
