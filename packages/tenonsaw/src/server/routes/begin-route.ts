import type { SignInRequest } from "../../attempt/index.js";
import { isScope } from "../../grant/index.js";
import { limits, parseUrl, wordsIn } from "../../platform/index.js";
import { fail, ProblemError, quoted } from "../../problem/index.js";
import { hashId, randomId, seal, type AttemptRecord } from "../../session/index.js";
import { note, redactUrl } from "../../trace/index.js";
import { begunWith, routes, withParameter } from "../context/addresses.js";
import { nameOf, readPopUp } from "../door/address-of.js";
import type { BegunAttempt, Context } from "../context/context.js";
import { retryAt } from "./explain.js";
import { tellMisspelt } from "../door/misspelt.js";
import { isFramed } from "../sessions/launched.js";
import { hostBase, launchKind, providerSettingsOf } from "../settings/hosts.js";
import { hostOf } from "../door/public-origin.js";
import { readReturnPath } from "../door/return-path.js";
import { sessionOf } from "../sessions/session-of.js";

/** The browser cookie lasts as long as the longest attempt; beginning again renews it. */
const browserCookieSeconds = 3600;

/** A browser has at most so many sign-ins open; beginning another ends the oldest. */
export const mostOpenAttempts = 20;

/**
 * Begins a sign-in and sends the browser to the provider; a front end is told where to send it. The attempt is kept
 * sealed in the store, found again by the hash of its state and bound to this browser by one cookie, however many
 * attempts are open.
 *
 * @throws provider.unknown, server.return-path-refused, provider.*, platform.*, store.unavailable
 */
export async function beginRoute(context: Context, request: Request, name: string): Promise<Response> {
  const { searchParams } = new URL(request.url);
  const { origin, pages } = context.settings;
  const returnTo = readReturnPath(origin, searchParams.get("returnTo"), pages.signedIn);
  const again = withParameter(routes(context.settings).begin(name), "returnTo", returnTo);
  if (context.providers.entries.some((entry) => entry.name === name)) retryAt(request, again);
  else if (
    context.providers.all.some((entry) => entry.name === name) &&
    !providerSettingsOf(context.settings, name)?.launch?.tenants
  )
    fail("provider.not-for-sign-in", { received: quoted(name) });

  tellMisspelt(context, request, searchParams, begunWith);
  const { scope } = await context.providers.line(name);
  const wish = await readWish(context, request, name, scope);
  const ending = readPopUp(searchParams.get("in"));
  const kind = readKind(context, searchParams.get("kind"));
  // At a host a sign-in that begins here is a launch, too: its context is its own.
  const isLaunch = hostBase(context.settings, name) !== undefined;
  const begin = () =>
    beginAttempt(context, request, name, returnTo, wish, {
      ...(ending !== undefined && { ending }),
      ...(isLaunch ? { sessionKind: launchKind } : kind !== undefined && { sessionKind: kind }),
    });
  const begun = await onceFor(context, request, begin);
  return context.answers.redirect(begun.url, begun.cookies);
}

/** The second of two clicks comes within so many seconds. */
const doubleClickSeconds = 1;

/**
 * Two clicks begin one sign-in, where the browser is one that this app has seen before. An attempt that is answered
 * already is not gone to again.
 */
async function onceFor(
  { beginning, finishing, cookies, tools }: Context,
  request: Request,
  begin: () => Promise<BegunAttempt>,
): Promise<BegunAttempt> {
  const browser = cookies.read(request, "browser") ?? cookies.read(request, "launch");
  if (browser === undefined) return begin();
  const key = `${browser} ${request.url}`;
  const at = tools.platform.monotonic();
  const first = beginning.get(key);
  if (first && at - first.at < doubleClickSeconds) {
    const begun = await first.begun.catch(() => undefined);
    if (begun && !finishing.has(begun.id)) return begun;
  }
  const begun = begin();
  beginning.set(key, { begun, at });
  return begun;
}

/** @throws attempt.parameters-refused */
function readKind({ settings: { sessionKinds } }: Context, kind: string | null): string | undefined {
  if (kind === null) return undefined;
  if (Object.hasOwn(sessionKinds, kind)) return kind;
  const known = Object.keys(sessionKinds).join(", ") || "(none)";
  fail("attempt.parameters-refused", {
    received: `kind ${quoted(kind)}`,
    expected: `one of the session kinds in the settings: ${known}`,
    because: "kind",
  });
}

/**
 * Opens an attempt: where to send the browser, and the cookie that binds it.
 *
 * @param purpose `account`: the connected account that it is about, and no other; sealed
 * @param key of a frame that keeps no cookie, in place of one
 */
export async function beginAttempt(
  context: Context,
  request: Request,
  name: string,
  returnTo: string,
  wish: Omit<SignInRequest, "redirectUri">,
  {
    account,
    launchMark,
    ...purpose
  }: Pick<AttemptRecord, "connectFor" | "ending" | "linkSessionId" | "sessionKind"> & SealedPurpose,
  key?: string,
): Promise<BegunAttempt> {
  const { tools, store, ring, settings, cookies } = context;
  const { platform } = tools;
  const line = await context.providers.line(name);
  noteOtherHost(context, request);
  const resource = resourcesAt(settings, name);
  const begun = await line.begin({
    redirectUri: routes(settings).callback(name),
    ...(resource.length > 0 && { resource }),
    ...wish,
  });
  const isLaunch = purpose.sessionKind === launchKind;
  const cookie = isLaunch ? "launch" : "browser";
  const browser = key ?? cookies.read(request, cookie) ?? randomId(platform, 32);
  const id = await hashId(platform, begun.attempt.state);
  context.ways?.join(wayOf(id), `Sign-in at ${name}`);
  await context.sweep();
  const record = {
    id,
    browserHash: await hashId(platform, browser),
    provider: name,
    host: hostOf(request).slice(0, limits.host),
    returnTo,
    sealedAttempt: await seal(
      tools,
      ring,
      attemptPlace(id),
      sealedText({ account, launchMark }, begun.attempt.secrets),
    ),
    ...purpose,
    beganAt: begun.attempt.beganAt,
    expiresAt: begun.attempt.expiresAt,
  };
  await store.addAttempt(keepShort(context, record), mostOpenAttempts);
  if (tools.trace) note(tools, "server", `sent to ${name}: ${await redactUrl(platform, begun.url)}`);
  const seconds = isLaunch ? context.limitsOf(launchKind).lifetimeSeconds : browserCookieSeconds;
  const kept =
    key === undefined ? [cookies.write(cookie, browser, seconds, isLaunch && isFramed(request))] : [];
  return { id, url: begun.url, cookies: kept };
}

/** Whoever begins sign-ins by the million leaves little: where the whole would be too long, the return path gives way. */
function keepShort({ tools }: Context, record: AttemptRecord): AttemptRecord {
  const sizeOf = (values: object) =>
    Object.values(values).reduce<number>(
      (sum, value) => sum + new TextEncoder().encode(String(value)).length,
      0,
    );
  const tooMuch = sizeOf(record) - limits.attempt;
  if (tooMuch <= 0) return record;
  const [path = "/"] = record.returnTo.split(/[?#]/, 1);
  const returnTo = path.length <= record.returnTo.length - tooMuch ? path : "/";
  note(tools, "server", "too much to keep of this sign-in: its return path is cut", { returnTo });
  return { ...record, returnTo };
}

/** All that access tokens of the sign-in are to be for: RFC 8707 section 2.1. */
function resourcesAt({ providers, apis }: Context["settings"], name: string): readonly string[] {
  const own = Object.values(apis).flatMap(({ provider, resource }) =>
    provider === name && resource !== undefined ? [resource] : [],
  );
  const { resource } = providers[name] ?? {};
  return [...new Set(own.length > 0 && resource !== undefined ? [resource, ...own] : own)];
}

/**
 * What the address asks for beyond a sign-in. Whoever makes a link can ask for more or for less: what a page needs it
 * checks in the session, by `provedWithin`, `authenticationClass` and the connection's scope.
 */
async function readWish(
  context: Context,
  request: Request,
  name: string,
  usual: string,
): Promise<Omit<SignInRequest, "redirectUri">> {
  const { searchParams } = new URL(request.url);
  const text = (parameter: string) => searchParams.get(parameter) ?? undefined;
  const [maxAge, acrValues, scope, uiLocales, loginHint] = [
    text("maxAge"),
    text("acrValues"),
    text("scope"),
    text("uiLocales"),
    text("loginHint"),
  ];
  requireShort({ acrValues, uiLocales, loginHint, extraScope: scope });
  if (scope !== undefined && !isScope(scope)) {
    fail("attempt.parameters-refused", { received: quoted(scope), because: "scope" });
  }
  if (maxAge !== undefined && !/^\d{1,9}$/.test(maxAge))
    fail("attempt.parameters-refused", { received: `maxAge ${quoted(maxAge)}`, because: "seconds" });
  return {
    ...(maxAge !== undefined && { maxAge: Number(maxAge) }),
    ...(acrValues !== undefined && { acrValues }),
    ...(uiLocales !== undefined && { uiLocales }),
    ...(loginHint !== undefined && { loginHint }),
    ...(scope !== undefined && { scope: await widen(context, request, name, `${usual} ${scope}`) }),
  };
}

/** @throws attempt.parameters-refused */
function requireShort(
  values: Readonly<
    Partial<Record<"acrValues" | "uiLocales" | "loginHint" | "extraScope", string | undefined>>
  >,
): void {
  for (const [name, value = ""] of Object.entries(values)) {
    const longest = limits[name as keyof typeof values];
    if (value.length > longest || /\p{Cc}/u.test(value)) {
      fail("attempt.parameters-refused", {
        received: `${name === "extraScope" ? "scope" : name} of ${value.length} characters: ${quoted(value, 40)}`,
        expected: `at most ${longest} characters, none of them a control character`,
        because: "too-long",
      });
    }
  }
}

/** What was granted before stays granted: asking for less would take it away (RFC 6749 section 3.3). */
async function widen(context: Context, request: Request, name: string, scope: string): Promise<string> {
  const found = await sessionOf(context, request);
  const connection = found && (await context.store.findConnection(found.session.id, name));
  return [...new Set(wordsIn(`${connection?.scope ?? ""} ${scope}`))].join(" ");
}

/**
 * Tells the developer, before the sign-in goes wrong, that the browser is somewhere else than `origin` says: at another
 * name of this machine, or behind a proxy that nobody put into the settings. Headers of proxies are believed for this
 * hint only; nothing is derived from them.
 */
function noteOtherHost({ tools, settings }: Context, request: Request): void {
  if (!(tools.trace || settings.development) || settings.proxies) return;
  const own = new URL(settings.origin);
  const host = request.headers.get("x-forwarded-host") ?? hostOf(request);
  const scheme = request.headers.get("x-forwarded-proto") ?? own.protocol.slice(0, -1);
  if (host === own.host && `${scheme}:` === own.protocol) return;
  const browser = `${scheme}://${host}`.slice(0, 200);
  note(tools, "server", "the browser is not at `origin`, so the sign-in will come back elsewhere", {
    browser,
    origin: settings.origin,
  });
  // The proxy of a development server may name its own Host; the page that the link is on is where the browser is.
  if (settings.development && parseUrl(request.headers.get("referer") ?? "")?.origin !== settings.origin)
    tools.report?.(
      new ProblemError("attempt.other-host", {
        received: quoted(browser),
        expected: quoted(settings.origin),
      }),
      nameOf(request),
    );
}

/** The name of an attempt's way: nothing that could be used for anything else. */
export function wayOf(attemptId: string): string {
  return attemptId.slice(0, 16);
}

/** What is sealed with an attempt beside its secrets. */
export interface SealedPurpose {
  /** The connected account that it is about, and no other. */
  readonly account?: string | undefined;
  /** What is used up when a launch in a frame without cookies is finished. */
  readonly launchMark?: string | undefined;
}

/** One line of both, and what the line of travel needs when the browser is back. */
function sealedText({ account = "", launchMark = "" }: SealedPurpose, secrets: string): string {
  return `${encodeURIComponent(account)} ${launchMark}\n${secrets}`;
}

export function readSealed(text: string): SealedPurpose & { readonly secrets: string } {
  const end = text.indexOf("\n");
  // An older version of this app, which was replaced while somebody was at the provider.
  if (end < 0)
    fail("response.attempt-too-old", { received: "an attempt that an older version of this app began" });
  const [account = "", launchMark = ""] = text.slice(0, end).split(" ");
  return {
    account: account === "" ? undefined : decodeURIComponent(account),
    launchMark: launchMark === "" ? undefined : launchMark,
    secrets: text.slice(end + 1),
  };
}

export function attemptPlace(id: string): string {
  return `attempt/${id}`;
}
