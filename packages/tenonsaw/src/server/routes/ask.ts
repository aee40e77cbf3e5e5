import { chooserUrl, routes, withParameter } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import type { Needs } from "../sessions/admit.js";
import { returnPathOf } from "../door/return-path.js";

/** What to ask a person for, at which provider. */
export interface Wish<Providers extends string = string> extends Needs<Providers> {
  /** Name of the provider to go to, such as `session.provider`. */
  readonly provider: Providers;
}

/** Sends a visitor to sign in and back to this page; a request that is not for a page gets 401. */
export function ask(context: Context, request: Request, wish?: Wish): Response {
  const { tools, settings, answers } = context;
  const returnTo = returnPathOf(tools, request.url);
  const wantsPage = request.method === "GET" && (request.headers.get("accept") ?? "").includes("text/html");
  const target = wish
    ? settings.origin + wishPath(routes(settings).begin(wish.provider), wish, returnTo)
    : chooserUrl(context, returnTo);
  // RFC 9110 section 15.5.2: 401 says how to get in; RFC 9110 section 11.1: the scheme is this library's own.
  const challenge = { "www-authenticate": `SignIn realm="${settings.origin}"` };
  if (!wantsPage)
    return answers.json({ signIn: wish ? target : routes(settings).chooser }, 401, [], challenge);
  return answers.redirect(target);
}

function wishPath(path: string, { maxAge, acrValues, scope }: Wish, returnTo: string): string {
  const parameters = { returnTo, maxAge: maxAge?.toString(), acrValues, scope };
  return Object.entries(parameters).reduce(
    (whole, [name, value]) => (value === undefined ? whole : withParameter(whole, name, value)),
    path,
  );
}
