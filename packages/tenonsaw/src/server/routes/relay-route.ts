import { isPlainPath, letGo, limits } from "../../platform/index.js";
import { fail, isProblem, ProblemError, quoted, type Problem } from "../../problem/index.js";
import { errorOf, note, problemOf } from "../../trace/index.js";
import { unansweredCall } from "../../connection/no-answer.js";
import { callFor, callerOf, failUnknown } from "../connections/call.js";
import { personOf } from "../connections/person-of.js";
import { routes, withParameter } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { requireOwnPage } from "../door/own-page.js";
import { accountHeader, passOnToPage } from "../door/pass-on.js";
import { sessionOf } from "../sessions/session-of.js";
import { requireSamePerson } from "../sessions/whom.js";
import { shownPath } from "../settings/hosts.js";
import { relayedMethods } from "../settings/relay-rules.js";

/** What of a page's request goes on to an API: what describes its content and what it would like to have. */
const passedOn = [
  "accept",
  "accept-language",
  "content-language",
  "content-type",
  "idempotency-key",
  "if-match",
  "if-modified-since",
  "if-none-match",
  "if-range",
  "if-unmodified-since",
  "last-event-id",
  "prefer",
  "range",
];

/** An API has so many seconds to begin its answer; longer where something is sent up to it first. */
const patienceSeconds = { reading: 30, sending: 600 };

/**
 * Calls a declared API for a page of this app, with the person's token, which the page never sees: what the page sends and
 * what the API answers stream through. A problem is told as RFC 9457 has it, with what the page can do about it.
 */
export async function relayRoute(context: Context, request: Request, path: string): Promise<Response> {
  try {
    return await relay(context, request, path);
  } catch (thrown) {
    if (request.signal.aborted) return context.answers.json({}, 499);
    const reported = unansweredCall(thrown);
    const error = reported ?? asTold(thrown, request, apiOf(path));
    const problem = problemOf(error);
    note(context.tools, "server", "problem", { problem: problem.code, received: problem.received ?? "" });
    const { basePath } = context.settings;
    if (!reported)
      context.tools.report?.(error, `${request.method} ${basePath}${shownPath(path, context.settings)}`);
    return tell(context, problem, apiOf(path));
  }
}

/** An API that keeps a page waiting is the API's problem, and nothing of this app's. */
function asTold(thrown: unknown, request: Request, api: string): Error {
  if (isProblem(thrown)) return thrown;
  const { name } = errorOf(thrown);
  if (name !== "TimeoutError") return errorOf(thrown);
  return new ProblemError("connection.api-failed", {
    received: `no beginning of an answer from ${api} within ${patienceFor(request)} s`,
    because: "late",
    cause: thrown,
  });
}

const patienceFor = ({ body }: Request) => (body ? patienceSeconds.sending : patienceSeconds.reading);

function apiOf(path: string): string {
  return path.split("/")[2] ?? "";
}

async function relay(context: Context, request: Request, path: string): Promise<Response> {
  requireOwnScript(context, request);
  const name = apiOf(path);
  const rest = path.slice(`/relay/${name}`.length);
  const { method } = request;
  const { apis } = context.settings;
  if (!Object.hasOwn(apis, name)) failUnknown(apis, name, 404);
  const rules = apis[name]?.relay ?? [];
  const methods = relayedMethods(rules, rest);
  if (!methods.includes(method))
    fail("server.relay-refused", {
      received: `${quoted(method, 20)} ${quoted(rest, 100)} of ${name}`,
      expected: methods.length === 0 ? "a path that the settings declare" : methods.join(", "),
      because: isPlainPath(rest) ? undefined : "odd-path",
    });
  const found = context.ownPersonOf ? undefined : await sessionOf(context, request);
  const personId = context.ownPersonOf ? await personOf(context, request) : found?.session.personId;
  if (personId === undefined)
    fail("session.not-signed-in", {
      received: "a page of nobody's",
      because: context.ownPersonOf ? "own-sign-in" : undefined,
    });
  await requireSamePerson(context, request, personId);
  const account = accountOf(request);
  const { begun, signal } = followed(context, request);
  const { search } = new URL(request.url);
  tellUnsent(context, request, name);
  const init = { method, headers: headersFor(request), signal, account, ...bodyOf(request) };
  const caller = found ? callerOf(found) : { personId };
  // A redirect of the API leads to nothing that pages may not call.
  const mayFollow = (to: string, by: string) => relayedMethods(rules, to).includes(by);
  const answer = await callFor(context, caller, name, rest + search, init, mayFollow);
  begun();
  return withLength(passOnToPage(answer), answer);
}

/** So that a page can tell how much is still to come; what was packed has another length now (RFC 9110 section 8.6). */
function withLength(passed: Response, { status, headers }: Response): Response {
  const length = headers.get("content-length") ?? "";
  const isAsSent = !headers.has("content-encoding") && ![204, 205, 304].includes(status);
  if (isAsSent && /^\d+$/.test(length)) passed.headers.set("content-length", length);
  return passed;
}

/** In a header, percent-encoded: what is in the address goes on to the API. */
function accountOf(request: Request): string | undefined {
  const text = request.headers.get(accountHeader);
  if (text === null) return undefined;
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

/**
 * A script of this app's own page: its origin, and that it is neither a form nor a link. Browsers say that by
 * `Sec-Fetch-Dest`, which no page can set (Fetch Metadata Request Headers 2.1); where they do not, a header has to be there
 * that takes a script, and from another origin leave.
 *
 * @throws session.other-origin
 */
function requireOwnScript(context: Context, request: Request): void {
  requireOwnPage(context, request);
  const dest = request.headers.get("sec-fetch-dest");
  const mode = request.headers.get("sec-fetch-mode") ?? "cors";
  // A ping of a link and what a page fetches beforehand are for no destination either, and no script has sent them.
  if (dest === "empty" && ["cors", "same-origin"].includes(mode)) return;
  if (dest === null && request.headers.has("tenonsaw-relay")) return;
  fail("session.other-origin", {
    received: `Sec-Fetch-Dest ${quoted(dest ?? "absent", 20)}, Sec-Fetch-Mode ${quoted(mode, 20)}`,
    expected:
      "a script of this app's page: Sec-Fetch-Dest empty and Sec-Fetch-Mode cors or same-origin, or the header Tenonsaw-Relay",
    because: dest === null ? "untold" : "no-script",
  });
}

/** Given up when the page goes away, or when the API does not begin its answer in time. */
function followed(
  { tools }: Context,
  request: Request,
): { readonly signal: AbortSignal; readonly begun: () => void } {
  const controller = new AbortController();
  const late = tools.platform.deadline(patienceFor(request));
  const isLate = () => {
    controller.abort(late.reason);
  };
  late.addEventListener("abort", isLate, { once: true });
  const isGone = () => {
    controller.abort(request.signal.reason);
  };
  request.signal.addEventListener("abort", isGone, { once: true });
  if (request.signal.aborted) isGone();
  const begun = () => {
    late.removeEventListener("abort", isLate);
    letGo(late);
  };
  return { signal: controller.signal, begun };
}

/** In development: what a page's own code has put there, by its name, and is left behind. */
function tellUnsent({ settings, tools }: Context, request: Request, api: string): void {
  if (!settings.development) return;
  const unsent = [...request.headers.keys()].filter((name) => /^x-(?!forwarded-|real-ip$)/.test(name));
  if (unsent.length > 0)
    tools.report?.(
      new ProblemError("server.relay-header-unsent", {
        received: unsent.map((each) => quoted(each, 40)).join(", "),
      }),
      `a page's call of ${api}`,
    );
}

/** @throws server.request-too-large */
function headersFor(request: Request): Headers {
  const headers = new Headers();
  for (const name of passedOn) {
    const value = request.headers.get(name);
    if (value === null) continue;
    if (value.length > limits.relayedHeader)
      fail("server.request-too-large", { received: `${name} of ${value.length} characters` });
    headers.set(name, value);
  }
  return headers;
}

/** The body streams through, and is counted. */
function bodyOf(request: Request): object {
  if (!request.body) return {};
  const tooLarge = (received: string): never =>
    fail("server.body-too-large", { received, expected: `at most ${limits.relayedBody} bytes` });
  const stated = request.headers.get("content-length") ?? "";
  if (/^\d+$/.test(stated) && Number(stated) > limits.relayedBody) tooLarge(`a body of ${stated} bytes`);
  let length = 0;
  const counting = new TransformStream<Uint8Array, Uint8Array>({
    transform(part, controller) {
      length += part.byteLength;
      if (length > limits.relayedBody) tooLarge(`more than ${limits.relayedBody} bytes`);
      controller.enqueue(part);
    },
  });
  return { body: request.body.pipeThrough(counting), duplex: "half" };
}

/** RFC 9457: what went wrong, and in `ways` what the page can do about it, each with its address. */
function tell(context: Context, problem: Problem, api: string): Response {
  const { settings, answers, providers, ownPersonOf } = context;
  const { code, title, status, retryAfterSeconds, ask } = problem;
  const paths = routes(settings);
  const provider = Object.hasOwn(settings.apis, api) ? settings.apis[api]?.provider : undefined;
  const needs = ask?.provider ?? provider ?? "";
  const isForConnecting = Object.hasOwn(settings.connections, needs);
  const isForSignIn = providers.entries.some(({ name }) => name === needs);
  const withScope = (path: string) =>
    ask?.scope === undefined ? path : withParameter(path, "scope", ask.scope);
  const withAccount = (path: string) =>
    ask?.account === undefined ? path : withParameter(path, "account", ask.account);
  const isAboutConsent = ["connection.none", "connection.ended", "connection.scope-insufficient"].includes(
    code,
  );
  const ways = {
    ...(code === "session.not-signed-in" && !ownPersonOf && { signIn: paths.chooser }),
    ...(isAboutConsent && isForConnecting && { connect: withAccount(withScope(paths.connect(needs))) }),
    ...(isAboutConsent && isForSignIn && !ownPersonOf && { ask: withScope(paths.begin(needs)) }),
  };
  const { received: detail, because, expected, here, atProvider } = problem;
  const inFull = settings.development && { detail, expected, here, atProvider };
  const wish = isAboutConsent && {
    ask: {
      provider: needs,
      ...(ask?.scope !== undefined && { scope: ask.scope }),
      ...(ask?.account !== undefined && { account: ask.account }),
      ...(isForConnecting && { by: "connecting" }),
    },
  };
  return answers.json(
    {
      type: "about:blank",
      title,
      status,
      code,
      ...((settings.development || status < 500) && { because }),
      ...inFull,
      ways,
      ...wish,
    },
    status,
    [],
    {
      // An API's own answer never has it: what comes from here and what from there is never mistaken.
      "tenonsaw-problem": code,
      "content-type": "application/problem+json",
      ...(retryAfterSeconds !== undefined && { "retry-after": String(retryAfterSeconds) }),
    },
  );
}
