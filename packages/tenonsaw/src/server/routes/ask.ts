import { parseUrl, limits } from "../../platform/index.js";
import { fail, quoted } from "../../problem/index.js";
import { chooserUrl, routes, withParameter } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { launchNamed } from "../sessions/launched.js";
import type { Needs } from "../sessions/admit.js";
import { notSignedInPage } from "../pages/pages.js";
import { returnPathOf } from "../door/return-path.js";

/** What to ask a person for, at which provider. */
export interface Wish<Providers extends string = string> extends Needs<Providers> {
  /** Name of the provider to go to, such as `session.provider`. */
  readonly provider: Providers;
}

/** Sends a visitor to sign in and back to this page; a request that is not for a page gets 401. */
export function ask(context: Context, request: Request, wish?: Wish): Response {
  const { tools, settings, answers, wordingOf } = context;
  requireWholePath(settings, request);
  if (launchNamed(request) !== undefined)
    fail("launch.ended", { received: "a request of a launch that is over" });
  const returnTo = returnPathOf(tools, request.url);
  const acceptsPage = (request.headers.get("accept") ?? "").includes("text/html");
  const target = wish
    ? settings.origin + wishPath(pathFor(context, wish.provider), wish, returnTo)
    : chooserUrl(context, returnTo);
  // RFC 9110 section 15.5.2: 401 says how to get in; RFC 9110 section 11.1: the scheme is this library's own.
  const challenge = { "www-authenticate": `SignIn realm="${settings.origin}"` };
  // A form that a browser sends from a page.
  if (acceptsPage && request.method === "POST") {
    // What was sent is gone; the page it was sent from is where it can be sent again.
    const from = chooserUrl(context, refererPath(settings.origin, request));
    return answers.page(notSignedInPage(wordingOf(request), from), 401, challenge);
  }
  if (!acceptsPage || request.method !== "GET")
    return answers.json({ signIn: wish ? target : routes(settings).chooser }, 401, [], challenge);
  context.reach.sent();
  return answers.redirect(target);
}

/** Where people sign in with a provider, or connect an account there. */
function pathFor({ settings, providers }: Context, provider: string): string {
  const isForSignIn = providers.entries.some(({ name }) => name === provider);
  const isForConnecting = Object.hasOwn(settings.connections, provider);
  return isForConnecting && !isForSignIn
    ? routes(settings).connect(provider)
    : routes(settings).begin(provider);
}

/** The page of this app that a request came from, as far as the browser tells it. */
function refererPath(origin: string, request: Request): string {
  const referer = request.headers.get("referer") ?? "";
  const url = parseUrl(referer);
  if (url?.origin !== origin || url.pathname.startsWith("//")) return "/";
  const path = url.pathname + url.search;
  return path.length <= limits.returnPath ? path : "/";
}

/**
 * A proxy that takes the beginning off every path sends the sign-in routes, too, to the app's own pages, and these send the
 * browser back to sign in, for ever.
 *
 * @throws server.path-cut
 */
function requireWholePath({ basePath }: Context["settings"], request: Request): void {
  const { pathname, searchParams } = new URL(request.url);
  const parts = basePath.split("/").slice(1);
  const isCut = parts.slice(1).some((_, index) => {
    const rest = `/${parts.slice(index + 1).join("/")}`;
    return pathname === rest
      ? searchParams.has("returnTo")
      : pathname.startsWith(`${rest}/to/`) || pathname.startsWith(`${rest}/from/`);
  });
  if (isCut) fail("server.path-cut", { received: quoted(pathname), expected: `a path below ${basePath}` });
}

function wishPath(path: string, { maxAge, acrValues, scope }: Wish, returnTo: string): string {
  const parameters = { returnTo, maxAge: maxAge?.toString(), acrValues, scope };
  return Object.entries(parameters).reduce(
    (whole, [name, value]) => (value === undefined ? whole : withParameter(whole, name, value)),
    path,
  );
}
