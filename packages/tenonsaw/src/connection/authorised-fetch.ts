import { isScope, requireGrant, type Grant } from "../grant/index.js";
import type { Jwk } from "../jose/index.js";
import { signOAuth1Request, type OAuth1Provider, type OAuth1Token } from "../oauth1/index.js";
import { fail, isProblem, ProblemError, quoted, type CauseOf, type Problem } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { isSecureUrl, isUrl, parseUrl } from "../platform/index.js";
import {
  parseChallenges,
  requireProvider,
  signDpopProof,
  takeNonce,
  type Provider,
} from "../provider/index.js";
import { heeding, requireFetched, type Tools } from "../trace/index.js";
import { boundsOf, resolveApiUrl, type Api, type Bounds } from "./api-address.js";
import { followWithin } from "./follow-within.js";
import { askAbout, type Connecting, type Holder } from "./connecting.js";
import { freshToken } from "./fresh-token.js";
import { unsealAccessToken, unsealDpopKey, unsealToken, type Holding } from "./tokens.js";

/** An API has half a minute to begin its answer, unless the caller brings a signal of their own. */
const deadlineSeconds = 30;

/**
 * Calls an API with the person's access token (RFC 6750 section 2.1). The token goes to the API's declared origin
 * only; redirects are followed within it, and returned where they lead elsewhere. A token that is refused is renewed
 * once, and the call repeated, if its body can be sent again.
 *
 * @param path a path at the API's origin, or a whole URL there
 * @throws connection.other-origin, connection.scope-insufficient, and what freshToken throws; like fetch, rejects
 *   with a TypeError when the API cannot be reached
 */
export async function authorisedFetch(
  connecting: Connecting,
  holder: Holder,
  api: Api,
  path: string,
  init: RequestInit = {},
): Promise<Response> {
  const response = await fetchAsPerson(connecting, holder, api, path, init);
  reportAnswer(connecting.tools, api, init, response);
  return response;
}

const refusals: Readonly<Record<number, CauseOf<"connection.api-failed">>> = {
  401: "token-refused",
  403: "forbidden",
  429: "busy",
};

/** An API that answers with a failure is a line in the log, with what it says in its headers; the body is the caller's. */
export function reportAnswer(
  { report }: Tools,
  api: Api,
  init: RequestInit,
  { status, headers }: Response,
): void {
  // Whoever wants redirects themselves knows of them.
  const isRedirect = status >= 300 && status < 400 && headers.has("location") && init.redirect !== "manual";
  if (report === undefined || !([401, 403, 429].includes(status) || status >= 500 || isRedirect)) return;
  const said = (["www-authenticate", "retry-after"] as const).flatMap((name) => {
    const value = headers.get(name);
    return value === null ? [] : [`, ${name} ${quoted(value, 300)}`];
  });
  // Not its query: there may be anything in it.
  const to = isRedirect ? parseUrl(headers.get("location") ?? "", api.origin) : undefined;
  if (to) said.push(`, to ${quoted(to.origin + to.pathname, 200)}`);
  report(
    new ProblemError("connection.api-failed", {
      received: `status ${status} from ${api.name}${said.join("")}`,
      because: status >= 500 ? "out-of-order" : isRedirect ? "redirect" : refusals[status],
    }),
    `${init.method ?? "GET"} at ${api.origin}`,
  );
}

async function fetchAsPerson(
  connecting: Connecting,
  holder: Holder,
  api: Api,
  path: string,
  init: RequestInit,
): Promise<Response> {
  const url = resolveApiUrl(api, path);
  const holding = await freshToken(connecting, holder, api);
  const call = async (held: Holding) => {
    const accessToken = await unsealAccessToken(connecting, held, api.name);
    const tokenSecret = await unsealToken(connecting, held.connection, "token-secret");
    if (tokenSecret !== undefined) {
      const credentials = { token: accessToken, tokenSecret };
      const provider = connecting.openOAuth1(api.provider);
      return followWithin(
        url,
        init,
        (at, request) => callSigned(provider, credentials, at, request),
        boundsOf(api)?.holds,
      );
    }
    const dpopKey = await unsealDpopKey(connecting, held.connection);
    return callWith(connecting.tools, { accessToken, dpopKey }, url, init, boundsOf(api));
  };
  const response = await call(holding);
  await requireScope(askAbout(holding.connection), holding.token.scope, response);
  // Without a refresh token there is nothing to renew with: the refusal is the caller's.
  const canRepeat =
    holding.connection.sealedRefreshToken !== undefined && !(init.body instanceof ReadableStream);
  // An API that has just refused a new token as well is not given another one for every call.
  const name = `${holding.connection.id} ${api.name}`;
  if (response.status !== 401 || !canRepeat || connecting.stubborn.refuses(name)) return response;
  const renewed = await freshToken(connecting, holder, api, holding);
  if (renewed.token.sealedAccessToken === holding.token.sealedAccessToken) return response;
  await response.body?.cancel();
  const again = await call(renewed);
  connecting.stubborn.note(name, again.status === 401);
  return again;
}

/**
 * An API that wants more scope says so (RFC 6750 section 3.1), and the person can be asked for it. One that names no scope,
 * or none that is lacking, refuses for another reason, such as a role: asking would change nothing, and its answer stands.
 *
 * @throws connection.scope-insufficient
 */
export async function requireScope(
  ask: NonNullable<Problem["ask"]>,
  granted: string,
  response: Response,
): Promise<void> {
  if (response.status !== 403) return;
  const header = response.headers.get("www-authenticate");
  const challenge = parseChallenges(header).find(
    ({ parameters }) => parameters["error"] === "insufficient_scope",
  );
  const { scope = "" } = challenge?.parameters ?? {};
  const held = granted.split(" ");
  // What is no scope is not asked for.
  if (!challenge || !isScope(scope) || scope.split(" ").every((each) => held.includes(each))) return;
  await response.body?.cancel();
  fail("connection.scope-insufficient", { received: quoted(header, 300), ask: { ...ask, scope } });
}

/**
 * The access token itself, fresh, for a client that makes its calls in another way.
 *
 * @throws connection.token-bound, and what freshToken throws
 */
export async function bearerToken(connecting: Connecting, holder: Holder, api: Api): Promise<string> {
  const holding = await freshToken(connecting, holder, api);
  const { connection } = holding;
  const isBound = connection.sealedDpopKey !== undefined || connection.sealedTokenSecret !== undefined;
  if (isBound) fail("connection.token-bound", { received: `a token of ${api.provider} that takes a proof` });
  return unsealAccessToken(connecting, holding, api.name);
}

/** What a call is made with: a token that whoever bears it may use, or one that takes a proof with each call. */
interface Bearing {
  readonly accessToken: string;
  readonly dpopKey?: Jwk | undefined;
}

/**
 * A call with an access token (RFC 6750 section 2.1, RFC 9449 section 7.1), redirects at its origin followed; told to
 * the trace without it. An API that wants a nonce in the proof gets the call once more, if its body can be sent again.
 */
export function callWith(
  tools: Tools,
  bearing: Bearing,
  url: string,
  init: RequestInit,
  bounds?: Bounds,
): Promise<Response> {
  const send = (at: string, request: RequestInit) => callOnce(tools, bearing, at, request, bounds?.base);
  return followWithin(url, init, send, bounds?.holds);
}

/**
 * Calls an API with a grant, without a session and a store: with its access token, and with a proof where that is bound to a
 * key (RFC 6750 section 2.1, RFC 9449 section 7.1). Redirects are followed at the address's own origin only.
 *
 * @param url of an API that the grant is for: it gets the access token
 * @throws provider.not-open, grant.not-a-grant, platform.insecure-url; like fetch, rejects with a TypeError when the API cannot be reached
 */
export function fetchWithGrant(
  provider: Pick<Provider, "tools">,
  grant: Pick<Grant, "accessToken" | "dpopKey">,
  url: string,
  init: RequestInit = {},
): Promise<Response> {
  requireProvider(provider);
  requireGrant(grant);
  const { tools } = provider;
  const { accessToken, dpopKey } = grant;
  if (!isSecureUrl(url))
    fail("platform.insecure-url", {
      received: quoted(url),
      because: isUrl(url) ? undefined : "no-address",
    });
  return callWith(tools, { accessToken, dpopKey }, url, init);
}

async function callOnce(
  tools: Tools,
  { accessToken, dpopKey }: Bearing,
  url: string,
  init: RequestInit,
  base: string | undefined,
): Promise<Response> {
  const method = init.method ?? "GET";
  const headers = new Headers(init.headers);
  headers.set("authorization", `${dpopKey ? "DPoP" : "Bearer"} ${accessToken}`);
  const send = async () => {
    const proof = dpopKey && (await signDpopProof(tools, dpopKey, { method, url, accessToken }));
    if (proof) headers.set("dpop", proof.text);
    const response = await sendCall(tools, url, { ...init, method, headers }, base);
    return {
      response,
      isWorthRepeating:
        proof !== undefined &&
        takeNonce(tools, url, proof, { status: response.status, headers: response.headers }),
    };
  };
  const { response, isWorthRepeating } = await send();
  if (!isWorthRepeating || init.body instanceof ReadableStream) return response;
  await response.body?.cancel();
  return (await send()).response;
}

/** One call signed with token credentials (RFC 5849 section 3). */
async function callSigned(
  provider: OAuth1Provider,
  credentials: OAuth1Token,
  url: string,
  init: RequestInit,
): Promise<Response> {
  const request = {
    method: init.method ?? "GET",
    url,
    headers: new Headers(init.headers),
    body: init.body ?? null,
  };
  const signed = await signOAuth1Request(provider, credentials, request);
  const { method, headers, body = null } = signed;
  return sendCall(provider.tools, signed.url, { ...init, method, headers, body });
}

async function sendCall(
  tools: Tools,
  url: string,
  init: RequestInit & { method: string },
  base?: string,
): Promise<Response> {
  const { platform } = tools;
  // Where nobody looks on, that is not loaded.
  const tell = tools.trace && (await loadPart(import("./tell-call.js"))).tellCall;
  const startedAt = platform.now();
  const response = await withinDeadline(platform, init.signal ?? undefined, (signal) =>
    platform.fetch(url, { ...init, ...howOften(init), signal }).then(requireFetched),
  ).catch(async (error: unknown) => {
    // What ended the body, behind what `fetch` makes of it.
    const { cause } = (error ?? {}) as Partial<Error>;
    const problem = [error, cause].find((each) => isProblem(each));
    if (problem) throw problem;
    // What Node's own fetch says of a redirect, in words alone.
    if (cause instanceof Error && cause.message === "unexpected redirect")
      fail("connection.api-failed", {
        received: `a redirect from ${new URL(url).origin}, to a body that streams`,
        because: "redirect-of-stream",
        cause: error,
      });
    // Who gave up waiting knows it.
    if (init.signal?.aborted !== true && tools.report)
      await import("./no-answer.js").then(
        ({ reportNoAnswer }) => reportNoAnswer(tools, url, init.method, error),
        // Where nothing can be loaded any more, what has failed counts all the same.
        () => tools.report?.(error, `${init.method} at ${new URL(url).origin}`),
      );
    throw error;
  });
  const durationSeconds = platform.now() - startedAt;
  const { method } = init;
  await tell?.(tools, { startedAt, durationSeconds, method, url, status: response.status, base });
  return response;
}

/**
 * A redirect that `fetch` hands over might want the body again: it keeps a copy of all that it sends, for as long as the call
 * lasts. What streams is sent once, and kept nowhere, unless the caller wants the redirect itself (Fetch Standard, HTTP-network
 * fetch).
 */
const howOften = ({ body, redirect }: RequestInit): RequestInit =>
  body instanceof ReadableStream && redirect !== "manual"
    ? { redirect: "error", window: null }
    : { redirect: "manual" };

/** The deadline is for the beginning of the answer: a stream may then go on for as long as it likes. */
async function withinDeadline(
  { deadline }: Tools["platform"],
  own: AbortSignal | undefined,
  send: (signal: AbortSignal) => Promise<Response>,
): Promise<Response> {
  if (own) return send(own);
  const controller = new AbortController();
  try {
    return await heeding(deadline(deadlineSeconds), send(controller.signal));
  } catch (error) {
    controller.abort(error);
    throw error;
  }
}
