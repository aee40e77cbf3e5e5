import {
  authorisedFetch,
  createBackOff,
  createLeases,
  createMachineFetch,
  createStubborn,
} from "../connection/index.js";
import { fail, isProblem, quoted, type ProblemError } from "../problem/index.js";
import { limits } from "../platform/index.js";
import { resolveSecret } from "../provider/index.js";
import { createCookies, randomId, readKeyRing, requireReadableCookies } from "../session/index.js";
import { isBrowserStore, type BrowserStore } from "../stores/cookie.js";
import { rememberSessions } from "../stores/remembered.js";
import { createTools, note } from "../trace/index.js";
import { withinBudget } from "../stores/budget.js";
import { createAnswers } from "./answers.js";
import { chooseEnvironment } from "./choose-environment.js";
import { beginRoute, popUp } from "./begin-route.js";
import { requireBrowserLimits } from "./browser-limits.js";
import { callbackRoute } from "./callback-route.js";
import { chooserUrl, routes, wantsJson, withParameter, type Context } from "./context.js";
import { linkRoute, unlinkRoute } from "./link-route.js";
import { chooserPage, problemPage } from "./pages.js";
import { createProviders, type ProviderEntry } from "./providers.js";
import { pointAtSetting } from "./point-at-setting.js";
import { createOriginReader } from "./public-origin.js";
import { backChannelRoute, frontChannelRoute, refuseNotice } from "./provider-sign-out-route.js";
import { readReturnPath, returnPathOf } from "./return-path.js";
import { sessionOf } from "./session-of.js";
import { requireApi, viewSession, type Session } from "./session-view.js";
import { settingPlaces, type SignInSettings } from "./settings.js";
import { createSweep } from "./sweep.js";
import { createWordings } from "./texts.js";
import { endAll, release, releaseLater, takeBack } from "./ending.js";
import { createPeerLimit } from "./peer-limit.js";
import { signedOutRoute, signOutRoute } from "./sign-out-route.js";

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

/** Sign-in for a server app: Request in, Response out, in any framework. */
export interface SignIn {
  /** Answers the sign-in routes; undefined for every other address. */
  handle(request: Request): Promise<Response | undefined>;
  /** The session of the browser that sent this request, if it has one. Reads the store once. */
  session(request: Request): Promise<Session | undefined>;
  /**
   * Calls a declared API as the app itself, with client credentials and without a person.
   *
   * @throws connection.api-unknown, connection.no-client-scope, connection.other-origin, grant.*, platform.*
   */
  fetch(api: string, path: string, init?: RequestInit): Promise<Response>;
  /**
   * Calls a declared API for a person who is not here, such as from a job at night: with what their latest session at
   * the API's provider holds.
   *
   * @throws as Session.fetch
   */
  fetchFor(personId: string, api: string, path: string, init?: RequestInit): Promise<Response>;
  /**
   * Sends a visitor to sign in and back to this page; a request that is not for a page gets 401.
   *
   * @param wish what this page needs: a recent proof of who it is, a way of proving, more scope
   */
  ask(request: Request, wish?: Wish): Response;
  /**
   * Removes a person with everything that is theirs here, and takes their tokens back.
   *
   * @throws store.unavailable
   */
  forget(personId: string): Promise<void>;
  /**
   * Ends a session, whosever it is, and takes its tokens back: for operators.
   *
   * @param id of `Session.sessions`, or of the store
   * @throws store.unavailable
   */
  endSession(id: string): Promise<void>;
  /**
   * Ends all sessions of a person, in all browsers, and takes their tokens back: after a change of what they sign in with,
   * or when something was stolen.
   *
   * @throws store.in-browser where sessions are kept there, store.unavailable
   */
  endSessions(personId: string): Promise<void>;
  /**
   * A problem as a page: in full in development, in general otherwise.
   *
   * @param request whose it is: the page is then in its language, and a front end gets JSON
   */
  explain(error: ProblemError, request?: Request): Response;
  /** The providers to offer, for a chooser page of one's own. */
  readonly providers: readonly (ProviderEntry & {
    readonly href: string;
    /** Where a form posts to, with `returnTo`, that gives the person who is signed in this way to do so. */
    readonly linkPath: string;
  })[];
  /** Where a form posts `issuer`, `subject` and `returnTo` to that takes one of them away. */
  readonly unlinkPath: string;
  /** Where a form that signs out posts to. */
  readonly signOutPath: string;
}

/**
 * Puts sign-in together from settings.
 *
 * @throws provider.settings-refused, provider.secret-missing, session.keys-refused, store.*
 */
export async function createSignIn(settings: SignInSettings): Promise<SignIn> {
  const common = await assemble(settings);
  const at = createContextReader(common);
  const { settings: resolved, answers, providers } = common;
  const paths = routes(resolved);
  const { [settingPlaces]: places } = settings;

  const explain = (error: ProblemError, request?: Request): Response => {
    const problem = resolved.development ? pointAtSetting(error.problem, resolved, places) : error.problem;
    const retry: Record<string, string> = {
      ...(problem.retryAfterSeconds !== undefined && { "retry-after": String(problem.retryAfterSeconds) }),
      // RFC 9110 section 15.5.6: which methods there are.
      ...(problem.code === "server.method-refused" && { allow: problem.expected }),
    };
    note(common.tools, "server", "problem", { problem: problem.code, received: problem.received ?? "" });
    const { code, status } = problem;
    if (request && wantsJson(request)) {
      return answers.json(
        { kind: "failed", problem: resolved.development ? problem : { code, status } },
        status,
        [],
        retry,
      );
    }
    const { failed } = resolved.pages;
    // The app's own page is told the code only; in development the whole problem is worth more.
    if (failed !== undefined && !resolved.development) {
      return answers.redirect(withParameter(failed, "problem", code));
    }
    const wording = common.wordingOf(request);
    return answers.page(problemPage(wording, problem, paths.chooser, resolved.development), status, retry);
  };

  const answerAt = async (request: Request, path: string): Promise<Response> => {
    let changes: AtRequest["changes"] = () => [];
    const answer = async () => {
      try {
        const reached = at(request, true);
        changes = reached.changes;
        await admitRate(reached, request, path);
        return await route(reached.context, request, path);
      } catch (error) {
        if (!isProblem(error)) throw error;
        return explain(error, request);
      }
    };
    const response = await answer();
    for (const cookie of changes()) response.headers.append("set-cookie", cookie);
    const { status, headers } = response;
    return request.method === "HEAD" ? new Response(null, { status, headers }) : response;
  };

  return {
    handle(request) {
      const path = pathBelow(resolved.basePath, request.url);
      return path === undefined ? notOurs : answerAt(request, path);
    },
    async session(request) {
      const { context } = at(request);
      const found = await sessionOf(context, request);
      return found && viewSession(context, found);
    },
    fetch: async (api, path, init) => common.machine.fetch(requireApi(common, api), path, init),
    async fetchFor(personId, api, path, init) {
      const declared = requireApi(common, api);
      for (const { session } of await common.store.findSessions({ personId })) {
        const connection = await common.store.findConnection(session.id, declared.provider);
        if (connection) return authorisedFetch(common, session.id, declared, path, init);
      }
      fail("connection.none", {
        received: `nobody with the ID ${quoted(personId)} at ${declared.provider}`,
      });
    },
    ask(request, wish) {
      const returnTo = returnPathOf(common.tools, request.url);
      const wantsPage =
        request.method === "GET" && (request.headers.get("accept") ?? "").includes("text/html");
      const target = wish
        ? at(request).context.settings.origin + wishPath(paths.begin(wish.provider), wish, returnTo)
        : chooserUrl(at(request).context, returnTo);
      // RFC 9110 section 15.5.2: 401 says how to get in; RFC 9110 section 11.1: the scheme is this library's own.
      const challenge = { "www-authenticate": `SignIn realm="${resolved.origin}"` };
      if (!wantsPage) return answers.json({ signIn: wish ? target : paths.chooser }, 401, [], challenge);
      return answers.redirect(target);
    },
    async forget(personId) {
      await release(common, await common.store.removePerson(personId));
    },
    async endSession(id) {
      await release(common, await common.store.endSession(id));
    },
    async endSessions(personId) {
      await release(common, (await endAll(common, { personId })).held);
    },
    explain,
    providers: providers.entries.map((entry) => ({
      ...entry,
      href: paths.begin(entry.name),
      linkPath: paths.link(entry.name),
    })),
    unlinkPath: paths.unlink,
    signOutPath: paths.signOut,
  };
}

/** What a URL parser takes out or reads otherwise (URL Standard 4.4): only then can a path be what is not written there. */
const unusualAddress = /\/\.|%2e|[\s\\]/i;

const notOurs = Promise.resolve(undefined);

/** What an address has behind the base path; undefined where it is another. Most are, and are not taken apart for it. */
function pathBelow(basePath: string, url: string): string | undefined {
  if (!url.includes(basePath) && !unusualAddress.test(url)) return undefined;
  const { pathname } = new URL(url);
  if (pathname !== basePath && !pathname.startsWith(`${basePath}/`)) return undefined;
  return pathname.slice(basePath.length);
}

async function assemble(settings: SignInSettings): Promise<Context> {
  const { store, trace, platform, welcome, limitRate, onConnection, ...data } = settings;
  const tools = createTools({ ...(platform && { platform }), trace });
  const { settings: resolved, warnings } = chooseEnvironment(
    data,
    data.environments && tools.platform.environment("TENONSAW_ENV"),
  );
  for (const { path, message } of warnings) note(tools, "server", `settings: ${path} ${message}`);
  const providers = createProviders(tools, resolved);
  const ring = await readKeyRing(tools, resolveSecret(tools, resolved.keys, "keys").reveal());
  const { browserStore, store: opened } = openKeeping(tools, ring, resolved, await store);

  const leases = createLeases(tools.platform);
  const context: Context = {
    tools,
    settings: resolved,
    providers,
    openProvider: (name) => providers.open(name),
    openOAuth1: (name) => providers.openOAuth1(name),
    ring,
    store: opened,
    ...(browserStore && { browserStore }),
    limitsOf: createLimits(resolved),
    sweep: createSweep(tools, opened, (held) => releaseLater(context, held)),
    leases,
    backOff: createBackOff(tools.platform),
    owner: randomId(tools.platform, 16),
    unwritten: new Map(),
    stubborn: createStubborn(tools.platform),
    takeBack: (name, grant) => takeBack({ tools, providers, settings: resolved }, name, grant),
    ...(onConnection && { onConnection }),
    machine: createMachineFetch(tools, leases, (name) => providers.open(name)),
    cookies: createCookies(resolved.origin, resolved.cookiePrefix),
    answers: await createAnswers(tools.platform, resolved),
    wordingOf: createWordings(resolved.texts),
    ...(welcome && { welcome }),
    limitRate: limitRate ?? usualLimit(tools),
  };
  return context;
}

function usualLimit({ platform }: Context["tools"]): Context["limitRate"] {
  const limit = createPeerLimit(platform);
  return (_request, peer) => limit(peer);
}

/** The store on the server, or the browsers'. */
function openKeeping(
  tools: Context["tools"],
  ring: Context["ring"],
  settings: Context["settings"],
  given: Context["store"] | BrowserStore,
): Pick<Context, "store" | "browserStore"> {
  if (isBrowserStore(given)) {
    requireBrowserLimits(settings);
    return { browserStore: given, store: given.open({ tools, ring }).store };
  }
  const { sessionCacheSeconds: seconds } = settings;
  const store = withinBudget(given);
  return { store: seconds === undefined ? store : rememberSessions(store, tools.platform, seconds) };
}

function createLimits(settings: Context["settings"]): Context["limitsOf"] {
  const { sessionKinds, sessionLifetimeSeconds: lifetimeSeconds, sessionIdleSeconds: idleSeconds } = settings;
  const common = { lifetimeSeconds, idleSeconds };
  return (kind) =>
    (kind !== undefined && Object.hasOwn(sessionKinds, kind) ? sessionKinds[kind] : undefined) ?? common;
}

/** A request's context, and the cookies that its browser is to keep in the end. */
interface AtRequest {
  readonly context: Context;
  readonly peer?: string;
  readonly changes: () => readonly string[];
}

/**
 * The context of a request: the same for all, but for the origin at which its browser sees this app, and for the store
 * where that is in the browser.
 */
function createContextReader(common: Context): (request: Request, isAnswered?: boolean) => AtRequest {
  const originOf = createOriginReader(common.tools, common.settings);
  const { browserStore } = common;
  const unchanged = () => [];
  const atOrigins = new Map<string, AtRequest>([
    [common.settings.origin, { context: common, changes: unchanged }],
  ]);
  const atOrigin = (origin: string) => {
    const settings = { ...common.settings, origin };
    const found = {
      context: { ...common, settings, cookies: createCookies(origin, settings.cookiePrefix) },
      changes: unchanged,
    };
    atOrigins.set(origin, found);
    return found;
  };
  return (request, isAnswered = false) => {
    const { origin, peer } = originOf(request);
    const found = atOrigins.get(origin) ?? atOrigin(origin);
    if (!browserStore) return isAnswered && peer !== undefined ? { ...found, peer } : found;
    const { cookies } = found.context;
    const { store, changes } = browserStore.open(common, { request, cookies, isAnswered });
    return { context: { ...found.context, store }, changes, ...(peer !== undefined && { peer }) };
  };
}

async function route(context: Context, request: Request, path: string): Promise<Response> {
  const { settings, answers, providers } = context;
  if (request.url.length > limits.url) {
    fail("server.request-too-large", { received: `a URL of ${request.url.length} characters` });
  }
  requireReadableCookies(request);
  const [, step, name, ...rest] = path.split("/");
  const at = [step, name === undefined ? undefined : "*", ...rest]
    .filter((part) => part !== undefined)
    .join("/");
  const isHead = request.method === "HEAD";
  switch (at) {
    case "": {
      requireMethod(request, "GET");
      const { searchParams } = new URL(request.url);
      const returnTo = readReturnPath(settings.origin, searchParams.get("returnTo"));
      if (settings.pages.chooser !== undefined) return answers.redirect(chooserUrl(context, returnTo));
      const isPopUp = searchParams.get("in") === popUp;
      const links = providers.entries.map(({ name: provider, title }) => {
        const href = withParameter(routes(settings).begin(provider), "returnTo", returnTo);
        return { title, href: isPopUp ? withParameter(href, "in", popUp) : href };
      });
      return answers.page(chooserPage(context.wordingOf(request), links), 200);
    }
    case "to/*":
      requireMethod(request, "GET", "POST");
      return isHead ? nothing(context) : beginRoute(context, request, name ?? "");
    case "from/*":
      requireMethod(request, "GET", "POST");
      return isHead ? nothing(context) : callbackRoute(context, request, name ?? "");
    case "link/*":
      requireMethod(request, "POST");
      return linkRoute(context, request, name ?? "");
    case "unlink":
      requireMethod(request, "POST");
      return unlinkRoute(context, request);
    case "session":
      requireMethod(request, "GET");
      return sessionRoute(context, request);
    case "keys":
      requireMethod(request, "GET");
      return answers.json(providers.clientKeySet(), 200);
    case "back-channel/*":
      requireMethod(request, "POST");
      return backChannelRoute(context, request, name ?? "").catch((error: unknown) => {
        if (!isProblem(error) || error.problem.status >= 500 || error.problem.station === "server")
          throw error;
        note(context.tools, "server", "problem", { problem: error.problem.code });
        return refuseNotice(context, error.problem.code);
      });
    case "front-channel/*":
      requireMethod(request, "GET");
      return isHead ? nothing(context) : frontChannelRoute(context, request, name ?? "");
    case "out":
      requireMethod(request, "POST");
      return signOutRoute(context, request);
    case "out/*":
      if (name !== "done") break;
      requireMethod(request, "GET");
      return isHead ? nothing(context) : signedOutRoute(context, request);
  }
  fail("server.route-unknown", { received: quoted(new URL(request.url).pathname) });
}

/** HEAD changes nothing (RFC 9110 section 9.2.1): whoever looks at an address does not go there. */
function nothing({ answers }: Context): Response {
  return answers.json({}, 200);
}

/** What the app's pages may know of their browser's session, to notice when it is another one. */
async function sessionRoute(context: Context, request: Request): Promise<Response> {
  const found = await sessionOf(context, request);
  if (!found) return context.answers.json({ signedIn: false }, 200);
  const { id, expiresAt } = found.session;
  return context.answers.json({ signedIn: true, expiresAt, tag: id.slice(0, 16) }, 200);
}

function wishPath(path: string, { maxAge, acrValues, scope }: Wish, returnTo: string): string {
  const parameters = { returnTo, maxAge: maxAge?.toString(), acrValues, scope };
  return Object.entries(parameters).reduce(
    (whole, [name, value]) => (value === undefined ? whole : withParameter(whole, name, value)),
    path,
  );
}

/** HEAD where GET is (RFC 9110 section 9.3.2). */
function requireMethod(request: Request, ...methods: readonly string[]): void {
  const all = methods.includes("GET") ? ["GET", "HEAD", ...methods.slice(1)] : methods;
  if (all.includes(request.method)) return;
  fail("server.method-refused", { received: quoted(request.method, 20), expected: all.join(", ") });
}

/** The routes that cost the store or a provider something. */
const costly = /^\/(to|from|link|unlink|back-channel|front-channel|out)\b/;

/** @throws server.too-many-requests */
async function admitRate({ context, peer }: AtRequest, request: Request, path: string): Promise<void> {
  if (!costly.test(path)) return;
  const seconds = await context.limitRate(request, peer);
  if (seconds === undefined || seconds <= 0) return;
  fail("server.too-many-requests", {
    received: peer === undefined ? "one more than is admitted" : `one more from ${peer} than is admitted`,
    retryAfterSeconds: Math.ceil(seconds),
  });
}
