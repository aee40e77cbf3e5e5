import { beganEmpty } from "../context/began-empty.js";
import { limits } from "../../platform/index.js";
import type { Grant } from "../../grant/index.js";
import { fail, isProblem, ProblemError, quoted, type CauseOf } from "../../problem/index.js";
import { loadPart } from "../../problem/load-part.js";
import {
  beginSession,
  hashId,
  tombstoneOf,
  unseal,
  type AttemptRecord,
  type PopUp,
} from "../../session/index.js";
import { check, equalInConstantTime, note } from "../../trace/index.js";
import { attemptPlace, readSealed, wayOf } from "./begin-route.js";
import { hostOf } from "../door/public-origin.js";
import { routes, wantsJson, withParameter } from "../context/addresses.js";
import { nameOf } from "../door/address-of.js";
import type { Context } from "../context/context.js";
import { releaseLater, takeBack } from "../sessions/ending.js";
import { readForm } from "../../trace/index.js";
import { keepAccount } from "../connections/keep.js";
import { keepClaims } from "../sessions/kept-claims.js";
import { welcome } from "../sessions/welcome.js";
import type { Line, TripOutcome } from "../settings/line.js";
import { forDevelopers, retryAt } from "./explain.js";
import { isHost } from "../../provider/index.js";
import { readState } from "../../response/index.js";
import { isOfTenants, launchKind, providerSettingsOf } from "../settings/hosts.js";
import { isFramed, launchValue, newHandle, useLaunchValue } from "../sessions/launched.js";
import { finishLink } from "./link-route.js";
import {
  connectTitle,
  declinedPage,
  fragmentPage,
  handOverPage,
  popUpPage,
  problemPage,
  repostPage,
  signedInPage,
  type Ending,
  type WindowChannel,
} from "../pages/pages.js";
import { personOf } from "../connections/person-of.js";

/**
 * The browser is back: finds the attempt it answers, finishes it, and opens the session.
 *
 * @throws response.*, grant.*, identity.*, jose.*, platform.*, session.*, store.unavailable
 */
export async function callbackRoute(
  context: Context,
  request: Request,
  name: string,
  handed?: Handed,
): Promise<Response> {
  const { tools } = context;
  if (!handed && keepsNoCookie(context, request, name)) {
    const to = { host: name, action: routes(context.settings).launchBack };
    return context.answers.passing(handOverPage(context.wordingOf(request), to));
  }
  // Anybody can write a tenant's name into an address: no host is asked anything before an attempt there is known.
  const asked = handed?.received ?? new URL(request.url).searchParams;
  const known = isOfTenants(context.settings, name)
    ? await findAttempt(context, request, name, readState(asked), handed)
    : undefined;
  const line = await context.providers.line(name);
  const received = handed?.received ?? (await readAnswer(context, request, line, name));
  if (received instanceof Response) return received;
  const parameters = await line.unpack(received);
  note(tools, "server", `back from ${name} with ${[...parameters.keys()].join(", ") || "nothing"}`);
  const state = line.stateOf(parameters);
  context.ways?.join(wayOf(await hashId(tools.platform, state)), `Sign-in at ${name}`);
  const attempt = known ?? (await findAttempt(context, request, name, state, handed));
  if (attempt.usedAt !== undefined) return repeated(context, request, attempt);
  if (await isUnknownYet(context, request, attempt)) {
    const again = [...received, [repostMark, "1"] as const];
    const wording = context.wordingOf(request);
    const title = connectTitle(wording, context.providers.titleOf(name));
    return context.answers.passing(
      repostPage(wording, routes(context.settings).callback(name), again, title),
    );
  }
  retryAt(request, withParameter(againOf(context, attempt), "returnTo", attempt.returnTo));
  return finishAttempt(context, request, line, attempt, received, handed);
}

/**
 * Whether the app's own sign-in does not know who comes back from the provider to connect an account. A cookie with SameSite=Strict
 * is not sent in a request that another site's page has led to, and is where this app's own page sends the answer on.
 */
async function isUnknownYet(
  context: Context,
  request: Request,
  { connectFor }: AttemptRecord,
): Promise<boolean> {
  const isFirst = request.method === "GET" && !wantsJson(request);
  if (!isFirst || connectFor === undefined || !context.ownPersonOf) return false;
  return (await personOf(context, request)) === undefined;
}

/** What a frame that keeps no cookie brings by hand: the host's answer, and the key that it was given for it. */
interface Handed {
  readonly key: string;
  readonly received: URLSearchParams;
}

/** Whether this is a frame that a host shows, and has not kept what it was given when the launch began. */
function keepsNoCookie({ settings, cookies }: Context, request: Request, name: string): boolean {
  const provider = providerSettingsOf(settings, name);
  return (
    request.method === "GET" &&
    provider !== undefined &&
    isHost(provider) &&
    isFramed(request) &&
    cookies.read(request, "launch") === undefined
  );
}

async function finishAttempt(
  context: Context,
  request: Request,
  line: Line,
  attempt: AttemptRecord,
  received: URLSearchParams,
  handed: Handed | undefined,
): Promise<Response> {
  const { tools, store, ring, settings, answers } = context;
  const { now } = tools.platform;
  const { provider: name } = attempt;
  const opened = await unseal(tools, ring, attemptPlace(attempt.id), attempt.sealedAttempt);
  const { account, launchMark, secrets } = readSealed(opened);
  const { beganAt, expiresAt } = attempt;
  const redirectUri = routes(settings).callback(name);
  // Used up before the code is sent, so that of two identical callbacks one at most gets anywhere.
  if (!(await store.useAttempt(attempt.id, now()))) return repeated(context, request, attempt);
  if (launchMark !== undefined && !(await useLaunchValue(context, launchMark)))
    fail("launch.value-used", { received: `a launch of ${quoted(name)} that has gone on elsewhere` });
  const unused: Grant[] = [];
  const finishing = line.finish({ beganAt, expiresAt, redirectUri, secrets }, received, (grant) =>
    unused.push(grant),
  );
  // Whether it was granted, and nothing of what was.
  const isGranted = finishing.then(({ kind }) => kind === "granted");
  const begun = { isGranted: isGranted.catch(() => false), at: now() };
  context.finishing.set(attempt.id, begun);
  try {
    const outcome = await finishing.finally(async () => {
      // Whose browser has a session may have tokens by it already, which some providers would end with these.
      if (context.cookies.read(request, "session") === undefined)
        for (const grant of unused) await takeBack(context, name, grant);
    });
    const answer = await finish(context, request, { ...attempt, account }, outcome, handed);
    const goTo = answer.headers.get("location");
    // The same answer once more goes to the same launch: its name is nowhere else.
    if (attempt.sessionKind === launchKind && goTo !== null)
      context.finishing.set(attempt.id, { ...begun, goTo });
    return answer;
  } catch (error) {
    if (attempt.ending === undefined || !isProblem(error)) throw error;
    // The window the sign-in was begun from is told; this one shows what the page of a failure always shows.
    const { problem } = error;
    note(tools, "server", "problem", { problem: problem.code, received: problem.received ?? "" });
    tools.report?.(error, nameOf(request));
    const content = problemPage(context.wordingOf(request), problem, {
      retry: withParameter(againOf(context, attempt), "in", attempt.ending),
      development: forDevelopers(context),
    });
    const { returnTo, ending } = attempt;
    const end: Ending = { kind: "failed", returnTo, problem: problem.code };
    return answers.passing(popUpPage(end, content, channelOf(settings, ending)), problem.status);
  }
}

/** Where the page hears of it that opened the window by a name. */
function channelOf({ basePath }: Context["settings"], ending: PopUp): WindowChannel | undefined {
  const id = ending.slice("pop-up.".length);
  return id === "" ? undefined : { id, name: `tenonsaw ${basePath}` };
}

/** Where it can be begun once more. */
function againOf({ settings }: Context, { provider, connectFor }: AttemptRecord): string {
  const { begin, connect } = routes(settings);
  return connectFor === undefined ? begin(provider) : connect(provider);
}

/** An attempt with what was sealed of its purpose: which account it is about, where it is about one. */
interface OpenedAttempt extends AttemptRecord {
  readonly account: string | undefined;
}

/** What is granted is kept, or taken back: whatever came in between, nobody is going to use it. */
async function finish(
  context: Context,
  request: Request,
  attempt: OpenedAttempt,
  outcome: TripOutcome,
  handed: Handed | undefined,
): Promise<Response> {
  try {
    return await settle(context, request, attempt, outcome, handed);
  } catch (error) {
    // Of an account that is connected already, some providers would end both.
    const isConnected = isProblem(error, "connection.other-account") && error.problem.because === "connected";
    if (outcome.kind === "granted" && !isConnected) await takeBack(context, attempt.provider, outcome.grant);
    throw error;
  }
}

async function settle(
  context: Context,
  request: Request,
  attempt: OpenedAttempt,
  granted: TripOutcome,
  handed: Handed | undefined,
): Promise<Response> {
  const { tools, settings, cookies } = context;
  const { provider: name, returnTo, linkSessionId, connectFor, account, sessionKind: kind } = attempt;
  const isLaunch = kind === launchKind;
  const outcome =
    isLaunch && granted.kind === "granted"
      ? {
          ...granted,
          ...(await (
            await loadPart(import("../sessions/admit-launch.js"))
          ).admitLaunch(context, name, granted)),
        }
      : granted;
  switch (outcome.kind) {
    case "declined": {
      note(tools, "server", "declined", { provider: name, said: outcome.said ?? "nothing" });
      return end(context, request, attempt, "declined", settings.pages.declined, [], outcome.said);
    }
    case "failed":
      throw new ProblemError(outcome.problem.code, outcome.problem);
    case "granted": {
      if (connectFor !== undefined) {
        await keepAccount(
          context,
          request,
          name,
          { personId: connectFor, account, beganAt: attempt.beganAt },
          outcome,
        );
        return end(context, request, attempt, "granted");
      }
      if (linkSessionId !== undefined) {
        await finishLink(context, request, name, linkSessionId, outcome);
        return end(context, request, attempt, "granted");
      }
      const claims = keepClaims(context, name, outcome);
      const { personId, page } = await welcome(context, name, outcome);
      const device = request.headers.get("user-agent");
      // A new session ID at every sign-in; the one before it, if any, ends. Launches stand beside each other.
      const previous = isLaunch ? undefined : cookies.read(request, "session");
      const handle = newHandle(context, handed !== undefined);
      const key = handed?.key ?? cookies.read(request, "launch") ?? "";
      const session = await beginSession(context, name, outcome, personId, {
        ...(Object.keys(claims).length > 0 && { claims }),
        ...(kind !== undefined && { kind }),
        ...(device !== null && { device }),
        ...(previous !== undefined && { previous }),
        ...(isLaunch && { value: launchValue(key, handle) }),
      });
      releaseLater(context, session.held);
      note(tools, "server", "signed in", { provider: name, person: session.person.id });
      const { lifetimeSeconds } = context.limitsOf(kind);
      const endsWithBrowser = kind !== undefined && settings.sessionKinds[kind]?.endsWithBrowser === true;
      const own = isLaunch ? withParameter(returnTo, "launched", handle) : returnTo;
      const next = { ...attempt, returnTo: page === undefined ? own : withParameter(page, "returnTo", own) };
      if (isLaunch) {
        const keeping = cookies.write("launch", key, lifetimeSeconds, isFramed(request));
        return end(context, request, next, "granted", undefined, handed ? [] : [keeping]);
      }
      return end(context, request, next, "granted", undefined, [
        cookies.write("session", session.value, endsWithBrowser ? undefined : lifetimeSeconds),
      ]);
    }
  }
}

/** Goes on to the app's page, or tells the front end, or the window that this one was opened from. */
function end(
  { answers, settings, wordingOf }: Context,
  request: Request,
  { returnTo, ending, connectFor }: AttemptRecord,
  kind: "granted" | "declined",
  page?: string,
  cookies: readonly string[] = [],
  said?: string,
): Response {
  const wording = wordingOf(request);
  const isConnecting = connectFor !== undefined;
  const declined = () =>
    declinedPage(wording, returnTo, { isConnecting, said: settings.development ? said : undefined });
  if (wantsJson(request)) return answers.json({ kind, returnTo }, 200, cookies);
  if (ending !== undefined) {
    const content = kind === "granted" ? signedInPage(wording, returnTo, isConnecting) : declined();
    return answers.passing(popUpPage({ kind, returnTo }, content, channelOf(settings, ending)), 200, cookies);
  }
  if (kind === "granted") return answers.redirect(settings.origin + returnTo, cookies);
  return page === undefined
    ? answers.page(declined(), 200)
    : answers.redirect(settings.origin + withParameter(page, "returnTo", returnTo));
}

/**
 * The parameters of the answer, from where the response mode puts them (OAuth 2.0 Multiple Response Type Encoding
 * Practices 1.0 section 2.1, OAuth 2.0 Form Post Response Mode 1.0); or a page that sends them here once more, where
 * the browser has kept something back.
 */
async function readAnswer(
  { tools, answers, cookies, settings, wordingOf }: Context,
  request: Request,
  { responseMode }: Line,
  name: string,
): Promise<URLSearchParams | Response> {
  const url = new URL(request.url);
  const isPost = request.method === "POST";
  const action = routes(settings).callback(name);
  if (responseMode.startsWith("query")) {
    if (!isPost) return url.searchParams;
    const sentOn = await readForm(tools, request, limits.postedAnswer);
    if (!sentOn.has(repostMark))
      fail("response.mode-mismatch", { received: "a POST", expected: "a GET: response mode query" });
    sentOn.delete(repostMark);
    return sentOn;
  }
  if (!isPost && responseMode.startsWith("fragment")) {
    // Errors of the address itself (a bookmark, a prefetch) come without fragment: the page then sends an empty one.
    return answers.passing(fragmentPage(wordingOf(request), action));
  }
  if (!isPost)
    fail("response.mode-mismatch", { received: "a GET", expected: `a POST: response mode ${responseMode}` });
  const form = await readForm(tools, request, limits.postedAnswer);
  if (responseMode.startsWith("fragment")) return new URLSearchParams(form.get("fragment") ?? "");
  // SameSite=Lax cookies are not sent with a post from another site: it is posted again from here, once.
  if (cookies.read(request, "browser") === undefined && !form.has(repostMark)) {
    return answers.passing(repostPage(wordingOf(request), action, [...form, [repostMark, "1"]]));
  }
  form.delete(repostMark);
  return form;
}

const repostMark = "tenonsaw-again";

/** The attempt this callback belongs to, in this browser, at this provider, in time. Each doubt has its own name. */
async function findAttempt(
  context: Context,
  request: Request,
  name: string,
  state: string,
  handed: Handed | undefined,
): Promise<AttemptRecord> {
  const { tools, store, settings, cookies } = context;
  const { platform } = tools;

  const id = await hashId(platform, state);
  const attempt = await store.findAttempt(id);
  // What a frame brings by hand counts for launches alone: nothing else is ever bound to it.
  const isLaunch = attempt?.sessionKind === launchKind;
  const browser = isLaunch
    ? (handed?.key ?? cookies.read(request, "launch"))
    : cookies.read(request, "browser");
  if (!attempt) {
    // What is left of it a day long says no more than that there was one.
    if (await store.isMarked(tombstoneOf(id), platform.now()))
      fail("response.attempt-too-old", { received: "an attempt that is over" });
    const isForgetful = beganEmpty(context) && browser !== undefined;
    fail("response.state-altered", {
      received: `a state of ${state.length} characters that fits no attempt, ${browser === undefined ? "and no" : "with a"} sign-in cookie${isForgetful ? "; this process began less than ten minutes ago" : ""}`,
      because: isForgetful ? "restarted" : undefined,
    });
  }
  if (browser === undefined) {
    const ownHost = new URL(settings.origin).host;
    const isSameHost = attempt.host === hostOf(request).slice(0, limits.host);
    check(tools, "response.other-host", isSameHost, () => ({
      received: `begun at ${quoted(attempt.host)}, ended at ${quoted(hostOf(request))}`,
      expected: `everything at ${ownHost}, the host of \`origin\``,
    }));
    fail("response.cookie-missing", {
      received: `no sign-in cookie at ${quoted(hostOf(request))}, ${Math.round(platform.now() - attempt.beganAt)} s after it was begun`,
      because: missingBecause(settings, request),
    });
  }
  const isSameBrowser = equalInConstantTime(await hashId(platform, browser), attempt.browserHash);
  check(tools, "response.other-browser", isSameBrowser, () => ({
    received: isSameBrowser ? "the same browser" : "the cookie of another browser",
  }));
  // Each provider has its own redirect URI; an answer at another's is a mix-up (RFC 9700 section 4.4.2.2).
  check(tools, "response.issuer-mismatch", attempt.provider === name, () => ({
    received: `the redirect URI of ${quoted(name)}`,
    expected: `the redirect URI of ${quoted(attempt.provider)}`,
  }));
  if (attempt.usedAt === undefined) {
    check(tools, "response.attempt-too-old", platform.now() < attempt.expiresAt, () => ({
      received: `${Math.round(platform.now() - attempt.beganAt)} s since it began`,
    }));
  }
  return attempt;
}

/** Why a cookie did not come, as far as the request shows it (Fetch Metadata Request Headers, 2.1). */
function missingBecause(
  { origin }: Context["settings"],
  request: Request,
): CauseOf<"response.cookie-missing"> {
  if (["iframe", "frame", "embed", "object"].includes(request.headers.get("sec-fetch-dest") ?? ""))
    return "frame";
  // A hint only: nothing but the words of a problem depends on it.
  if (origin.startsWith("https:") && request.headers.get("x-forwarded-proto") === "http") return "insecure";
  return request.headers.has("cookie") ? "others-only" : "no-cookies";
}

/**
 * The same callback again: whoever is signed in goes to their page, and so does whose first callback is being answered, or
 * was just now, by this process: its cookie may be on its way yet. For anybody else it is over.
 */
async function repeated(context: Context, request: Request, attempt: AttemptRecord): Promise<Response> {
  const { answers, settings, finishing, tools } = context;
  const isIn = async () => {
    if (await personOf(context, request)) return true;
    // Lost by a hair: the one that won has yet to say so.
    if (attempt.usedAt === undefined && !finishing.has(attempt.id)) await tools.platform.wait(0.1);
    const first = finishing.get(attempt.id);
    return first !== undefined && tools.platform.now() - first.at < justNowSeconds && (await first.isGranted);
  };
  if (await isIn()) {
    const { goTo } = finishing.get(attempt.id) ?? {};
    if (goTo !== undefined) return answers.redirect(goTo);
    if (attempt.sessionKind !== launchKind) return answers.redirect(settings.origin + attempt.returnTo);
  }
  fail("response.attempt-used", { received: "the same answer again" });
}

/** A second click, or a browser that loads twice, comes within so many seconds. */
const justNowSeconds = 5;
