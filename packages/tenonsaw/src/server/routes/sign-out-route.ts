import { limits } from "../../platform/index.js";
import { randomId, sessionIdOf, type ConnectionRecord } from "../../session/index.js";
import { equalInConstantTime, note } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { endAll, release, releaseLater } from "../sessions/ending.js";
import { readForm } from "../../trace/index.js";
import { tellMisspelt } from "../door/misspelt.js";
import { requireOwnPage } from "../door/own-page.js";
import { launchNamed } from "../sessions/launched.js";
import { sessionOf, sessionValue } from "../sessions/session-of.js";
import { requireSamePerson } from "../sessions/whom.js";

/**
 * Signs out here, or with the field `everywhere` in all of the person's browsers, takes the tokens back, and goes on to
 * the provider's own sign-out: OpenID Connect RP-Initiated Logout 1.0 section 2. Here comes first and always happens; what
 * the provider does not do is traced.
 *
 * @throws session.other-origin, session.person-changed, server.body-too-large, store.in-browser, store.unavailable
 */
export async function signOutRoute(context: Context, request: Request): Promise<Response> {
  const { tools, settings, store, cookies, answers } = context;
  requireOwnPage(context, request);
  const form = await readForm(tools, request, limits.ownForm);
  tellMisspelt(context, request, form, ["everywhere"]);
  const value = sessionValue(context, request);
  const found = await sessionOf(context, request);
  if (found && form.has("everywhere")) await requireSamePerson(context, request, found.person.id);
  const signedInWith = found?.session.provider;
  // This one ends whatever becomes of the others; where they cannot be ended, that is said, and what it held is taken back.
  const ended = [...(value === undefined ? [] : await store.endSession(await sessionIdOf(context, value)))];
  if (found && form.has("everywhere")) {
    try {
      ended.push(...(await endAll(context, { personId: found.person.id })).held);
    } catch (error) {
      releaseLater(context, ended);
      throw error;
    }
  }
  note(tools, "server", "signed out", { connections: String(ended.length) });
  // The browser can go on to one provider only: to the one that was signed in with.
  const isFirst = ({ provider }: ConnectionRecord) => Number(provider === signedInWith);
  const next = await release(
    context,
    ended.toSorted((left, right) => isFirst(right) - isFirst(left)),
  );
  // Where a host has opened the app, its user goes on there: what ends is this launch.
  const isLaunch = launchNamed(request) !== undefined;
  const gone = isLaunch ? [] : [cookies.clear("session")];
  if (next === undefined || isLaunch)
    return forgetting(answers.redirect(settings.origin + settings.pages.signedOut, gone));
  // RP-Initiated Logout section 3: what comes back with this state is the end of this sign-out.
  const state = randomId(tools.platform, 32);
  const url = new URL(next);
  url.searchParams.set("state", state);
  return forgetting(
    answers.redirect(url.href, [cookies.clear("session"), cookies.write("sign-out", state, signOutSeconds)]),
  );
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
