import { chooserUrl, routes, withParameter } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { returnPathOf } from "../door/return-path.js";

/** What a page needs of a sign-in beyond that there is one. */
export interface Wish {
  /** Name of the provider to go to, such as `session.provider`. */
  readonly provider: string;
  /** At most so many seconds since the person proved who they are; they are asked again where it is longer. */
  readonly maxAge?: number;
  /** How they are to prove it: values separated by spaces. */
  readonly acrValues?: string;
  /** What the access token has to allow on top of what it allows already, separated by spaces. */
  readonly scope?: string;
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
