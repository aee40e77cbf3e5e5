import { limits } from "../../platform/index.js";
import { fail, isProblem, quoted } from "../../problem/index.js";
import { loadPart, partOnce } from "../../problem/load-part.js";
import { requireReadableCookies } from "../../session/index.js";
import { note } from "../../trace/index.js";
import { begunWith, routes, wantsJson, withParameter } from "../context/addresses.js";
import { nameOf } from "../door/address-of.js";
import type { Context } from "../context/context.js";
import { isAhead } from "../door/looking.js";
import { tellMisspelt } from "../door/misspelt.js";
import { readReturnPath } from "../door/return-path.js";
import { chooserPage } from "../pages/pages.js";
import { personOf } from "../connections/person-of.js";
import type { SessionNow } from "../../session/index.js";
import { sessionNow } from "../sessions/session-now.js";
import { personTag } from "../sessions/whom.js";
import { beginRoute } from "./begin-route.js";
import { callbackRoute } from "./callback-route.js";
import { accountsRoute, connectRoute, disconnectRoute } from "./connect-route.js";
import { linkRoute, unlinkRoute } from "./link-route.js";
import { backChannelRoute, frontChannelRoute, refuseNotice } from "./provider-sign-out-route.js";
import { signedOutRoute, signOutRoute } from "./sign-out-route.js";

/** Loaded where a page calls an API: many apps have none that does. */
const relaying = partOnce(() => import("./relay-route.js"));

/**
 * Answers a request at an address below the base path.
 *
 * @throws server.route-unknown, server.method-refused, server.request-too-large, and what the routes throw
 */
export async function route(context: Context, request: Request, path: string): Promise<Response> {
  const { settings, answers, providers } = context;
  if (request.url.length > limits.url) {
    fail("server.request-too-large", {
      received: `a URL of ${request.url.length} characters`,
      because: "address",
    });
  }
  requireReadableCookies(request);
  if (path.startsWith("/relay/")) return (await relaying()).relayRoute(context, request, path);
  const [, step, name, ...rest] = path.split("/");
  const at = [step, name === undefined ? undefined : "*", ...rest]
    .filter((part) => part !== undefined)
    .join("/");
  // Whoever looks at an address does not go there: HEAD changes nothing (RFC 9110 section 9.2.1), and what a browser fetches
  // beforehand is refused, so that it asks again when somebody follows the link.
  const look = isAhead(request) ? 503 : request.method === "HEAD" ? 200 : 0;
  const nothing = () => answers.json({}, look);
  // But for the page to choose on, which is the same whoever looks at it.
  if (look === 503 && at !== "") return nothing();
  switch (at) {
    case "": {
      requireMethod(request, "GET");
      if (context.ownPersonOf) break;
      const { searchParams } = new URL(request.url);
      const returnTo = readReturnPath(settings.origin, searchParams.get("returnTo"), settings.pages.signedIn);
      tellMisspelt(context, request, searchParams, begunWith);
      const wishes = begunWith.flatMap((wish) => {
        const value = wish === "returnTo" ? returnTo : searchParams.get(wish);
        return value === null ? [] : [[wish, value] as const];
      });
      const withWishes = (path: string) =>
        wishes.reduce((href, [wish, value]) => withParameter(href, wish, value), path);
      const links = providers.entries.map(({ name: provider, title }) => ({
        title,
        href: withWishes(routes(settings).begin(provider)),
      }));
      if (wantsJson(request)) {
        const offered = providers.entries.map((entry, index) => ({ ...entry, href: links[index]?.href }));
        return answers.json({ providers: offered }, 200);
      }
      if (settings.pages.chooser !== undefined)
        return answers.redirect(settings.origin + withWishes(settings.pages.chooser));
      return answers.page(chooserPage(context.wordingOf(request), links), 200);
    }
    case "to/*":
      requireMethod(request, "GET", "POST");
      return look ? nothing() : beginRoute(context, request, name ?? "");
    case "from/*":
      requireMethod(request, "GET", "POST");
      return look ? nothing() : callbackRoute(context, request, name ?? "");
    case "link/*":
      requireMethod(request, "POST");
      return linkRoute(context, request, name ?? "");
    case "connect/*":
      requireMethod(request, "GET", "POST");
      return connectRoute(context, request, name ?? "");
    case "disconnect":
      requireMethod(request, "POST");
      return disconnectRoute(context, request);
    case "accounts":
      requireMethod(request, "GET");
      return accountsRoute(context, request);
    case "unlink":
      requireMethod(request, "POST");
      return unlinkRoute(context, request);
    case "trace":
      requireMethod(request, "GET");
      // Nobody has it in production.
      return (await loadPart(import("./trace-route.js"))).traceRoute(context, request);
    case "session":
      requireMethod(request, "GET");
      return answers.json(await nowOf(context, request), 200);
    case "session/*":
      if (name !== "events" || settings.sessionEventsSeconds === undefined) break;
      requireMethod(request, "GET");
      return look
        ? nothing()
        : (await loadPart(import("./session-events.js"))).sessionEvents(context, request);
    case "launch":
      requireMethod(request, "GET", "POST");
      if (!hasHosts(context)) break;
      // Loaded where a host opens this app: most have none.
      return look ? nothing() : (await loadPart(import("./launch-route.js"))).launchRoute(context, request);
    case "launch/*":
      if (name !== "back" || !hasHosts(context)) break;
      requireMethod(request, "POST");
      return (await loadPart(import("./launch-route.js"))).launchBackRoute(context, request);
    case "keys":
      requireMethod(request, "GET");
      return answers.json(providers.clientKeySet(), 200);
    case "back-channel/*":
      requireMethod(request, "POST");
      return backChannelRoute(context, request, name ?? "").catch((error: unknown) => {
        if (!isProblem(error) || error.problem.status >= 500 || error.problem.station === "server")
          throw error;
        note(context.tools, "server", "problem", { problem: error.problem.code });
        context.tools.report?.(error, nameOf(request));
        return refuseNotice(context, error.problem.code);
      });
    case "front-channel/*":
      requireMethod(request, "GET");
      return look ? nothing() : frontChannelRoute(context, request, name ?? "");
    case "out":
      requireMethod(request, "POST");
      return signOutRoute(context, request);
    case "out/*":
      if (name !== "done") break;
      requireMethod(request, "GET");
      return look ? nothing() : signedOutRoute(context, request);
  }
  const { basePath } = settings;
  fail("server.route-unknown", {
    received: quoted(new URL(request.url).pathname),
    expected: `one of the routes below ${basePath}, such as ${["to", "from", "connect", "link"].map((each) => `${basePath}/${each}/<provider>`).join(", ")}, ${basePath}/out and ${basePath}/session`,
  });
}

/** Where the app has its own sign-in, it knows by itself who is signed in; a page learns for whom it makes its calls. */
async function nowOf(context: Context, request: Request): Promise<SessionNow> {
  if (!context.ownPersonOf) return sessionNow(context, request);
  const personId = await personOf(context, request);
  return {
    signedIn: false,
    ...(personId !== undefined && { personTag: await personTag(context, personId) }),
  };
}

/** Whoever has an issuer may send people here to sign in; a host may open the app. Where the app has its own sign-in, nobody. */
function hasHosts({ ownPersonOf }: Context): boolean {
  return ownPersonOf === undefined;
}

/** HEAD where GET is (RFC 9110 section 9.3.2). */
function requireMethod(request: Request, ...methods: readonly string[]): void {
  const all = methods.includes("GET") ? ["GET", "HEAD", ...methods.slice(1)] : methods;
  if (all.includes(request.method)) return;
  fail("server.method-refused", { received: quoted(request.method, 20), expected: all.join(", ") });
}
