import { parseUrl, isLoopback, isSecureUrl, onceKnown, type Eventually } from "../platform/index.js";
import { fail, isProblem } from "../problem/index.js";
import { refuseSettings, resolveSecret } from "../provider/index.js";
import {
  createReport,
  createTools,
  errorOf,
  note,
  requireHandler,
  requireOwnAnswer,
  type Tools,
} from "../trace/index.js";
import type { Caller } from "./caller.js";
import { requireCertificate } from "./certificate.js";
import { readCredentials, type Credentials, type TokenCredentials } from "./credentials.js";
import { createExchange, type Origin } from "./exchange.js";
import type { Guard, GuardParts } from "./guard.js";
import { callOf, type IncomingCall } from "./incoming.js";
import { hold } from "./judge.js";
import { hasPlainly, judgeNeeds, needsOf, readNeeds, type CallNeeds } from "./needs.js";
import {
  crossOriginHeaders,
  isPreflight,
  metadataAnswer,
  preflightAnswer,
  refusalsAnswer,
  refusalsPath,
} from "./own-answers.js";
import { createProofNonces, ProofJudge } from "./proof.js";
import { createRefusalList } from "./refusals.js";
import { isRefusal, Refusal } from "./refusal.js";
import { createReplayMemory, oncePerRequest, promptMarks, withoutSteps } from "./replays.js";
import { metadataUrlOf, resourceMetadata } from "./resource-metadata.js";
import { readGuardSettings } from "./settings.js";
import type { GuardSettings, ResolvedCommon } from "./settings-types.js";
import { admitSigned } from "./signed-request.js";
import { IssuerDoor } from "./token-issuer.js";
import { TokenReader, unbound, type ReadToken } from "./token-reader.js";

/**
 * Opens a guard: for the access tokens of one issuer, or of several. Issuers are asked for their metadata and keys at once;
 * one that does not answer is told of, and asked again with the first call.
 *
 * @throws provider.settings-refused, provider.secret-missing; and where an issuer answers otherwise than it should
 *   provider.issuer-mismatch, provider.metadata-not-found, provider.metadata-refused
 */
export async function openGuard(settings: GuardSettings): Promise<Guard> {
  const { common, issuers } = readGuardSettings(settings);
  const { signedRequests, pageOrigins, proofRequired, formToken, development } = common;
  const base = createTools({ ...(common.platform && { platform: common.platform }), trace: common.trace });
  const report = createReport(base.platform, common.onProblem);
  const tools: Tools = { ...base, report };
  const now = () => base.platform.now();
  const doors = issuers.map((each) => new IssuerDoor(tools, each));
  const tokens = new TokenReader(tools, doors);
  const marks = withoutSteps(common.store ? promptMarks(tools, common.store) : createReplayMemory());
  const nonces = openNonces(tools, common);
  const marksFor = (call: IncomingCall) => oncePerRequest(common.store ?? marks, marks, call.source ?? call);
  const proofs = new ProofJudge(tools, nonces);
  /** Whose tokens can be exchanged; nobody's is kept where none can. */
  const origins = new WeakMap<Caller, Origin>();
  const mayExchange = Object.keys(common.downstream).length > 0;
  const refused = createRefusalList();

  const [first = ""] = issuers[0]?.audience ?? [];
  const resource = common.resource ?? (isSecureUrl(first) ? first : undefined);
  const name = common.name ?? first;
  const origin = common.origin ?? (resource === undefined ? undefined : new URL(resource).origin);
  const metadataUrl = resource === undefined ? undefined : metadataUrlOf(resource);
  const metadata =
    resource === undefined
      ? undefined
      : resourceMetadata({
          resource,
          name,
          issuers: issuers.filter(({ tenants }) => !tenants).map(({ issuer }) => issuer),
          scopes: common.scopes,
          takesForms: formToken,
          proofRequired,
        });
  requireOrigin(common, origin);

  /** Path and query of what was called. */
  const wholePathOf = ({ url }: IncomingCall): string => {
    if (url.startsWith("/")) return url;
    const parsed = parseUrl(url);
    return parsed ? parsed.pathname + parsed.search : "/";
  };
  const pathOf = (call: IncomingCall) => new URL(`http://path${wholePathOf(call)}`).pathname;
  /**
   * Where the caller sees what it called. A request says by itself to whom it goes, and whoever repeats one at another address says
   * so as well: what it says cannot be what it is held against.
   */
  const addressOf = (call: IncomingCall): string => {
    if (origin === undefined)
      return fail("guard.origin-unknown", { received: `${call.method} ${pathOf(call)}` });
    return origin + wholePathOf(call);
  };

  const givenBy = (call: IncomingCall) =>
    call.certificate() ?? common.certificateOf?.((each) => call.header(each));
  const requireBinding = (
    { binding }: ReadToken,
    credentials: TokenCredentials,
    call: IncomingCall,
  ): Eventually<void> => {
    const { scheme, token } = credentials;
    const { jkt, certificate } = binding;
    const certify = () =>
      certificate === undefined ? undefined : requireCertificate(tools, givenBy(call), certificate);
    if (jkt === undefined && (scheme === "dpop" || proofRequired))
      fail("guard.binding-mismatch", {
        received: "a token without `cnf.jkt`",
        expected: "a token that is bound to a key",
        because: scheme === "dpop" ? "not-bound" : "needed-here",
      });
    if (jkt === undefined) return certify();
    // RFC 9449 section 7.2: whoever takes it as a bearer token lets a thief in.
    if (scheme === "bearer")
      fail("guard.proof-missing", { received: "the scheme Bearer", because: "bearer" });
    const expected = {
      method: call.method,
      address: addressOf(call),
      accessToken: token,
      thumbprint: jkt,
      marks: marksFor(call),
    };
    const proving = proofs.judge(call.header("dpop"), expected);
    return certificate === undefined ? proving : onceKnown(proving, certify);
  };

  const settle = (
    found: ReadToken,
    credentials: TokenCredentials,
    call: IncomingCall,
  ): Caller | Promise<Caller> => {
    const { caller, binding, door } = found;
    if (mayExchange && !origins.has(caller)) origins.set(caller, { token: credentials.token, door });
    const isFree = binding === unbound && credentials.scheme === "bearer" && !proofRequired;
    return isFree ? caller : onceKnown(requireBinding(found, credentials, call), () => caller);
  };
  /** At once where the token was read before and is bound to nothing, as nearly always. */
  const admitToken = (credentials: TokenCredentials, call: IncomingCall): Caller | Promise<Caller> => {
    const known = tokens.recall(credentials.token);
    if (known) return settle(known, credentials, call);
    return onceKnown(tokens.read(credentials), (found) => settle(found, credentials, call));
  };

  const refuse = async (
    thrown: unknown,
    call: IncomingCall,
    needs: CallNeeds,
    credentials: Credentials | undefined,
  ): Promise<Error> => {
    const error = errorOf(thrown);
    if (!isProblem(error)) return error;
    const during = `${call.method} ${pathOf(call)}`;
    const refusal = new Refusal(error, {
      realm: name,
      metadataUrl,
      scheme: credentials?.kind === "signed" ? "oauth" : (credentials?.scheme ?? schemeOf(call)),
      takesBearer: !proofRequired,
      takesSigned: signedRequests !== undefined,
      needs,
      nonce: await nonces?.current(),
      headers: crossOriginHeaders(pageOrigins, call),
      development,
    });
    note(tools, "guard", "refused", { call: during, problem: error.problem.code });
    report(refusal, during);
    if (development) refused.note({ at: now(), during, status: refusal.status, problem: error.problem });
    return refusal;
  };

  const taking = { takesForms: formToken, takesSigned: signedRequests !== undefined };
  const parts: GuardParts = {
    needsOf,
    admit(call, wanted) {
      // A function of the app's runs for nobody who is not known yet, and a refusal before that names no scope.
      let needs: CallNeeds = typeof wanted === "function" ? {} : readNeeds(wanted);
      let credentials: Credentials | undefined;
      const admitBy = (read: Credentials) => {
        credentials = read;
        return read.kind === "signed" && signedRequests
          ? admitSigned(tools, signedRequests, marksFor(call), call, read.place, addressOf(call))
          : admitToken(read as TokenCredentials, call);
      };
      const judge = (caller: Caller) => {
        if (tools.trace || !hasPlainly(needs, caller)) hold(tools, judgeNeeds(needs, caller, now()));
        return caller;
      };
      let isAppsOwn = false;
      const conclude = (caller: Caller) => {
        if (typeof wanted !== "function") return judge(caller);
        isAppsOwn = true;
        return wanted().then((told) => {
          needs = readNeeds(told);
          isAppsOwn = false;
          return judge(caller);
        });
      };
      const refuseFor = async (error: unknown) => {
        // What fails in a function of the app's is its own matter, and no refusal.
        throw isAppsOwn ? error : await refuse(error, call, needs, credentials);
      };
      try {
        const admitting = onceKnown(onceKnown(readCredentials(call, taking), admitBy), conclude);
        return admitting instanceof Promise ? admitting.catch(refuseFor) : admitting;
      } catch (error) {
        return refuseFor(error);
      }
    },
    headersFor: (call) => crossOriginHeaders(pageOrigins, call),
    async handle(call) {
      // Without `pageOrigins` CORS is the app's own business.
      if (pageOrigins !== undefined && isPreflight(call)) return preflightAnswer(pageOrigins, call);
      if (call.method !== "GET" && call.method !== "HEAD") return undefined;
      const isMetadata = metadataUrl !== undefined && addressOf(call) === metadataUrl;
      if (isMetadata && metadata) return metadataAnswer(metadata);
      const isList = development && pathOf(call) === refusalsPath && isCalledHere(call);
      return isList ? refusalsAnswer(base.platform, refused.page(name)) : undefined;
    },
  };

  await Promise.all(doors.map((door) => openNow(tools, door)));
  const view = (request: Request) => callOf(tools, request);
  return {
    // Of the app's own code, which is asked where it stands: a function is for routes.
    admit: async (request, needs) => parts.admit(view(request), readNeeds(needs)),
    protect: (handler, needs) => protectBy(parts, view, handler, needs),
    handle: async (request) => parts.handle(view(request)),
    headersFor: (request) => parts.headersFor(view(request)),
    exchange: createExchange(tools, common.downstream, (caller) => origins.get(caller)),
    parts,
  };
}

function protectBy(
  parts: GuardParts,
  view: (request: Request) => IncomingCall,
  ...[handler, needs]: Parameters<Guard["protect"]>
): ReturnType<Guard["protect"]> {
  const taken = needsOf(needs);
  requireHandler(handler);
  return async (request) => {
    const call = view(request);
    const own = await parts.handle(call);
    if (own) return own;
    try {
      const answer = await handler(request, await parts.admit(call, taken(request)));
      return withHeaders(requireOwnAnswer(answer), parts.headersFor(call));
    } catch (error) {
      if (isRefusal(error)) return error.response();
      throw error;
    }
  };
}

/**
 * What depends on where callers see this API is not left to chance.
 *
 * @throws provider.settings-refused
 */
function requireOrigin(
  { development, proofRequired, proofNonces, signedRequests }: ResolvedCommon,
  origin: string | undefined,
): void {
  const isHere = origin !== undefined && isLoopback(new URL(origin).hostname);
  if (development && !isHere)
    refuseSettings({
      path: "development",
      message: `must be off${origin === undefined ? "" : ` at ${origin}`}: it tells every caller what is for developers. Turn it on only where \`origin\` is on this machine`,
    });
  const needing = Object.entries({ proofRequired, proofNonces, signedRequests }).find(([, each]) => each);
  if (origin === undefined && needing)
    refuseSettings({
      path: "origin",
      message: `is missing, and \`${needing[0]}\` needs it: what callers sign names this API's address`,
    });
}

/** Whether a call was sent to a name of this machine: another name may have been led here, by whoever wants to read what is here. */
function isCalledHere(call: IncomingCall): boolean {
  const host = call.url.startsWith("/") ? call.header("host") : parseUrl(call.url)?.host;
  const hostname = parseUrl(`http://${host ?? ""}`)?.hostname;
  return hostname !== undefined && isLoopback(hostname);
}

/** @throws provider.settings-refused, provider.secret-missing */
function openNonces(tools: Tools, { proofNonces }: ResolvedCommon) {
  if (proofNonces === undefined) return undefined;
  const secret = resolveSecret(tools, proofNonces, "proofNonces").reveal();
  if (secret.length >= 32) return createProofNonces(tools, secret);
  return refuseSettings({
    path: "proofNonces",
    message: `must have 32 characters or more, and has ${secret.length}`,
  });
}

/** What the call tried to be let in by, where it cannot be read. */
function schemeOf(call: IncomingCall): "bearer" | "dpop" | "oauth" {
  const scheme = /^\w+/.exec(call.header("authorization") ?? "")?.[0].toLowerCase();
  return scheme === "dpop" || scheme === "oauth" ? scheme : "bearer";
}

/** An answer with more headers, whether its own can be changed or not. */
function withHeaders(answer: Response, headers: Readonly<Record<string, string>>): Response {
  const all = Object.entries(headers);
  if (all.length === 0) return answer;
  const made = new Response(answer.body, answer);
  for (const [each, value] of all) made.headers[each === "vary" ? "append" : "set"](each, value);
  return made;
}

/** Asks an issuer before the first call does; who is away now may be there then. */
async function openNow(tools: Tools, door: IssuerDoor): Promise<void> {
  try {
    await door.open();
  } catch (error) {
    const cause = isProblem(error) ? error.cause : undefined;
    const isAway =
      isProblem(cause) && (cause.problem.station === "platform" || isProblem(cause, "provider.unavailable"));
    if (!isAway) throw isProblem(cause) ? cause : error;
    tools.report?.(error, "opening the guard");
  }
}
