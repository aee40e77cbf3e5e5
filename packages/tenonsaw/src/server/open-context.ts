import QuickLRU from "quick-lru";
import { createBackOff, createLeases, createMachineFetch, createStubborn } from "../connection/index.js";
import { refuseSettings, resolveSecret } from "../provider/index.js";
import {
  createCookies,
  randomId,
  readKeyRing,
  requireRandomKeys,
  type SessionLimits,
} from "../session/index.js";
import { withinBudget } from "../stores/budget.js";
import { isBrowserStore, type BrowserStore } from "../stores/cookie.js";
import { rememberSessions } from "../stores/remembered.js";
import {
  createRecorder,
  createReport,
  createTools,
  createWays,
  note,
  thrownBy,
  unfitRequest,
  type Trace,
} from "../trace/index.js";
import { createPlatform, isLoopback } from "../platform/index.js";
import { visible } from "../problem/index.js";
import type { Context } from "./context/context.js";
import { createReach } from "./context/reach.js";
import { createPeerLimit } from "./door/peer-limit.js";
import { createOriginReader } from "./door/public-origin.js";
import { createAnswers } from "./pages/answers.js";
import { createWordings } from "./pages/texts.js";
import { releaseLater, takeBack, withUnrevoked } from "./sessions/ending.js";
import { renewClaims } from "./sessions/kept-claims.js";
import { createSweep } from "./sessions/sweep.js";
import { launchKind, launchSeconds } from "./settings/hosts.js";
import { requireBrowserLimits } from "./settings/browser-limits.js";
import { isForSignIn } from "./settings/connection-settings.js";
import { chooseEnvironment } from "./settings/choose-environment.js";
import { createProviders } from "./settings/providers.js";
import { requireStore } from "./settings/settings-in-code.js";
import type { SignInSettings, SignInSettingsFromFile } from "./settings/settings-types.js";

/** What all requests share, from settings. */
export async function openContext(
  settings: SignInSettings | SignInSettingsFromFile,
  ownPersonOf?: Context["ownPersonOf"],
): Promise<Context> {
  const { store, trace, platform: given, welcome, limitRate, onConnection, onProblem, ...data } = settings;
  const platform = given ?? createPlatform();
  const { settings: resolved, warnings } = chooseEnvironment(
    data,
    "environments" in data ? platform.environment("TENONSAW_ENV") : undefined,
    "the environment variable TENONSAW_ENV",
  );
  const { hostname, protocol } = new URL(resolved.origin);
  const report = createReport(platform, onProblem);
  const recorder = resolved.development && isLoopback(hostname) ? createRecorder() : undefined;
  const own = trace && guarded("trace", trace, report);
  const told = recorder ? both(recorder.trace, own) : own;
  const ways = told && createWays(platform, told);
  const tools = createTools({
    platform,
    trace: ways?.trace,
    report,
  });
  const toSay = [
    ...warnings,
    ...(resolved.development && protocol === "https:"
      ? [
          {
            path: "development",
            message: "is on at an https origin: visitors are told what only developers should see",
          },
        ]
      : []),
  ];
  // There is nothing else that it could do.
  if (ownPersonOf && Object.keys(resolved.connections).length === 0)
    refuseSettings({ path: "connections", message: "must name the providers whose accounts people connect" });
  const all = await createProviders(tools, resolved);
  if (!ownPersonOf && !all.all.some(({ name }) => isForSignIn(resolved, name)))
    refuseSettings({
      path: "connections",
      message:
        "leaves no provider to sign in with: one of them takes `alsoForSignIn`, or an app with its own sign-in createConnections",
    });
  // Where the app has its own sign-in, nobody signs in here.
  const providers = ownPersonOf ? { ...all, entries: [] } : all;
  const ring = await readKeyRing(tools, resolveSecret(tools, resolved.keys, "keys").reveal());
  if (protocol === "https:") requireRandomKeys(ring);
  const app = resolved.origin + resolved.basePath;
  const { browserStore, store: opened } = openKeeping(
    { tools, ring, app },
    resolved,
    requireStore(await store),
  );
  if (opened.isForgetful === true && protocol === "https:")
    toSay.push({
      path: "store",
      message:
        "forgets everything when the process ends, and knows of no other process: at an https origin take another one",
    });
  if (opened.evictsBy !== undefined)
    toSay.push({
      path: "store",
      message: `drops what it keeps when its memory is full (${opened.evictsBy}): set maxmemory-policy to noeviction`,
    });
  for (const { path, message } of toSay) {
    note(tools, "server", `settings: ${path} ${message}`);
    platform.print(visible(`tenonsaw: the setting ${path} ${message}.`));
  }
  const leases = createLeases(tools.platform);
  const context: Context = {
    tools,
    settings: resolved,
    environment: resolved.environment ?? "",
    ...(ownPersonOf && { ownPersonOf }),
    providers,
    openProvider: (name) => providers.open(name),
    openOAuth1: (name) => providers.openOAuth1(name),
    ring,
    app,
    store: opened,
    ...(browserStore && { browserStore }),
    limitsOf: createLimits(resolved),
    sweep: createSweep(tools, opened, (held) => releaseLater(context, withUnrevoked(context, held))),
    leases,
    backOff: createBackOff(tools.platform),
    owner: randomId(tools.platform, 16),
    unwritten: new Map(),
    unrevoked: new Map(),
    stubborn: createStubborn(tools.platform),
    takeBack: (name, grant) => takeBack({ tools, providers, settings: resolved }, name, grant),
    onRenewed: (renewed) => renewClaims({ tools, settings: resolved, store: opened }, renewed),
    ...(onConnection && { onConnection: guarded("onConnection", onConnection, report) }),
    machine: createMachineFetch(tools, leases, (name) => providers.open(name)),
    cookies: createCookies(resolved.origin, resolved.cookiePrefix),
    ...(recorder && { recorder }),
    ...(ways && { ways }),
    answers: await createAnswers(tools.platform, resolved),
    wordingOf: createWordings(resolved.texts),
    ...(welcome && { welcome }),
    finishing: new QuickLRU({ maxSize: 100 }),
    beginning: new QuickLRU({ maxSize: 100 }),
    openedAt: platform.monotonic(),
    reach: createReach(tools, resolved),
    limitRate: limitRate ?? usualLimit(tools),
  };
  return context;
}

/** The app's own listener: what it throws, or its promise, ends nothing but itself. */
function guarded<Event>(
  name: string,
  listener: (event: Event) => unknown,
  report: NonNullable<Context["tools"]["report"]>,
): (event: Event) => void {
  const failed = (thrown: unknown) => report(thrownBy(name, thrown), `telling \`${name}\` of an event`);
  return (event) => {
    try {
      Promise.resolve(listener(event)).catch(failed);
    } catch (error) {
      failed(error);
    }
  };
}

/** Both are told. */
function both(first: Trace, second: Trace | undefined): Trace {
  return (event) => {
    first(event);
    second?.(event);
  };
}

function usualLimit({ platform }: Context["tools"]): Context["limitRate"] {
  const limit = createPeerLimit(platform);
  return (_request, peer) => limit(peer);
}

/** The store on the server, or the browsers'. */
function openKeeping(
  keeping: Pick<Context, "tools" | "ring" | "app">,
  settings: Context["settings"],
  given: Context["store"] | BrowserStore,
): Pick<Context, "store" | "browserStore"> {
  if (isBrowserStore(given)) {
    requireBrowserLimits(settings);
    return { browserStore: given, store: given.open(keeping).store };
  }
  const { sessionCacheSeconds: seconds } = settings;
  const store = withinBudget(given);
  return { store: seconds === undefined ? store : rememberSessions(store, keeping.tools.platform, seconds) };
}

function createLimits(settings: Context["settings"]): Context["limitsOf"] {
  const { sessionLifetimeSeconds: lifetimeSeconds, sessionIdleSeconds: idleSeconds } = settings;
  const common = { lifetimeSeconds, idleSeconds };
  const sessionKinds: Readonly<Record<string, SessionLimits>> = {
    [launchKind]: { lifetimeSeconds: launchSeconds, idleSeconds },
    ...settings.sessionKinds,
  };
  return (kind) =>
    (kind !== undefined && Object.hasOwn(sessionKinds, kind) ? sessionKinds[kind] : undefined) ?? common;
}

/** A request's context, and the cookies that its browser is to keep in the end. */
export interface AtRequest {
  readonly context: Context;
  readonly peer?: string;
  readonly changes: () => readonly string[];
}

/**
 * The context of a request: the same for all, but for the origin at which its browser sees this app, and for the store
 * where that is in the browser.
 */
export function createContextReader(common: Context): (request: Request, isAnswered?: boolean) => AtRequest {
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
    const unfit = unfitRequest(request);
    if (unfit) throw unfit;
    const { origin, peer } = originOf(request);
    const found = atOrigins.get(origin) ?? atOrigin(origin);
    if (!browserStore) return isAnswered && peer !== undefined ? { ...found, peer } : found;
    const { cookies } = found.context;
    const { store, changes } = browserStore.open(common, { request, cookies, isAnswered });
    return { context: { ...found.context, store }, changes, ...(peer !== undefined && { peer }) };
  };
}
