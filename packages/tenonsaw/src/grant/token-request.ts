import * as v from "valibot";
import { endAfter, limits } from "../platform/index.js";
import { parseJsonObject, type JsonObject, type Jwk } from "../jose/index.js";
import { fail, isProblem, quoted, quotedList, type ProblemCode } from "../problem/index.js";
import {
  authenticateClient,
  createDpopKey,
  mistakesIn,
  sendProven,
  type Deviations,
  type Provider,
} from "../provider/index.js";
import { describeBody, requireAvailable, wordsOf, type Answer } from "../trace/index.js";
import type { Grant } from "./grant.js";

interface TokenRequest {
  readonly leg: "token request" | "refresh request";
  /** A list is a parameter that stands several times. */
  readonly form: Readonly<Record<string, string | readonly string[]>>;
  /** The scope that holds where the answer names none (RFC 6749 section 5.1). */
  readonly scope: string;
  /** The key to bind the access token to, where that was agreed; made anew if it is left out. */
  readonly dpopKey?: Jwk | undefined;
  /** What kind of token it has to be, where the answer says (RFC 8693 section 2.2.1). */
  readonly issuedTokenType?: string;
  /** What `invalid_grant` means here. */
  readonly invalidGrant: ProblemCode;
  /** Is called in the moment before each request is sent. */
  readonly mayStart?: (() => void) | undefined;
}

// RFC 6749 5.1. A lifetime as text is common and harms nobody; a negative one or words are refused.
const lifetime = v.pipe(
  v.union([v.number(), v.pipe(v.string(), v.regex(/^\d{1,15}$/), v.transform(Number))]),
  v.finite(),
  v.minValue(0),
);
// RFC 6749 appendix A.12, A.13 and A.17; A.14 takes an address as well; A.4. What is in none of them is no token.
const token = v.pipe(v.string(), v.regex(/^[\x20-\x7e]+$/), v.maxLength(limits.token));
const bearable = v.pipe(v.string(), v.regex(/^[\x21-\x7e]+$/), v.maxLength(limits.token));
const tokenType = v.pipe(v.string(), v.regex(/^[!-~]{1,200}$/));
const scopeText = v.pipe(v.string(), v.regex(/^[\x20\x21\x23-\x5b\x5d-\x7e]*$/), v.maxLength(limits.scope));
const tokenAnswer = v.object({
  // It goes into a header, as one word (RFC 6750 section 2.1).
  access_token: bearable,
  token_type: tokenType,
  expires_in: v.optional(lifetime),
  refresh_token: v.optional(token),
  scope: v.optional(scopeText),
  // Whether it is a token is for whoever reads it to say.
  id_token: v.optional(token),
});

/**
 * One request to the token endpoint: RFC 6749 sections 3.2, 5.1 and 5.2.
 *
 * @throws grant.client-refused, grant.code-refused or grant.refresh-refused, grant.provider-error,
 *   grant.unavailable, grant.answer-refused, grant.token-type-refused, platform.*
 */
export async function requestTokens(provider: Provider, request: TokenRequest): Promise<Grant> {
  const answer = await askForTokens(provider, request);
  return "grant" in answer
    ? answer.grant
    : fail("grant.provider-error", { received: `${request.leg}: ${quoted(answer.error)}` });
}

/**
 * The same, where some errors are answers: those of `awaited` are returned instead of thrown.
 *
 * @throws as requestTokens
 */
export async function askForTokens(
  provider: Provider,
  request: TokenRequest,
  awaited: readonly string[] = [],
): Promise<{ readonly grant: Grant } | { readonly error: string }> {
  const { tools, issuer, clientId, metadata, timeoutSeconds } = provider;
  // Lifetimes count from before the request, so that a slow answer never makes a token look good for too long.
  const obtainedAt = Math.floor(tools.platform.now());
  const dpopKey = provider.bindsTokens ? (request.dpopKey ?? (await createDpopKey(tools))) : undefined;
  const prepare = async () => {
    const client = await authenticateClient(provider);
    return {
      station: "grant",
      leg: request.leg,
      url: metadata.token_endpoint,
      headers: client.headers,
      form: new URLSearchParams([...flatten(request.form), ...flatten(client.form)]),
      timeoutSeconds,
      mayStart: request.mayStart,
    };
  };
  const answer = await sendProven(tools, prepare, dpopKey);
  const { deviations } = provider;
  const body = await readAnswer(answer, request, provider);
  const isError =
    answer.status !== 200 || (deviations.errorInside200 === true && body["error"] !== undefined);
  const { error } = body;
  if (isError && typeof error === "string" && awaited.includes(error)) return { error };
  if (isError) return refuseError(answer, body, request, provider);
  const { issuedTokenType } = request;
  if (issuedTokenType !== undefined && body["issued_token_type"] !== issuedTokenType) {
    fail("grant.token-type-refused", {
      received: `issued_token_type ${quoted(body["issued_token_type"])}`,
      expected: issuedTokenType,
    });
  }
  const tokens = readTokens(body, deviations, provider.bindsTokens ? "dpop" : "bearer");
  const grant = {
    issuer,
    clientId,
    accessToken: tokens.access_token,
    scope: tokens.scope?.replaceAll(deviations.scopeSeparator ?? " ", " ") ?? request.scope,
    obtainedAt,
    ...(tokens.expires_in !== undefined && { expiresAt: endAfter(tokens.expires_in, obtainedAt) }),
    ...(tokens.refresh_token !== undefined && { refreshToken: tokens.refresh_token }),
    ...(tokens.id_token !== undefined && { idToken: tokens.id_token }),
    ...(dpopKey && { dpopKey }),
    ...contextIn(provider, body),
    ...(deviations.identityInTokenAnswer === true && { answer: body }),
  };
  return { grant };
}

/** What a host says beside the tokens, of what it may say; whether it may be believed is for the launch to find out. */
function contextIn({ host }: Provider, body: JsonObject): Pick<Grant, "context"> {
  if (!host) return {};
  const members = Object.keys(host.context).filter((name) => Object.hasOwn(body, name));
  return { context: Object.fromEntries(members.map((name) => [name, body[name]])) };
}

function flatten(form: TokenRequest["form"]): [string, string][] {
  return Object.entries(form).flatMap(([name, value]) =>
    (typeof value === "string" ? [value] : value).map((each): [string, string] => [name, each]),
  );
}

function readTokens(
  body: JsonObject,
  deviations: Deviations,
  expectedType: string,
): v.InferOutput<typeof tokenAnswer> {
  const type = deviations.tokenTypeAbsent === true ? { token_type: "Bearer" } : {};
  const result = v.safeParse(tokenAnswer, { ...type, ...body });
  if (!result.success) {
    fail("grant.answer-refused", {
      received: `the members ${quotedList(Object.keys(body)) ?? "(none)"}`,
      findings: mistakesIn(result.issues),
    });
  }
  // RFC 6749 7.1 and 5.1: the type is compared without regard to case; another type than agreed is not used. A bearer
  // token where a bound one was asked for is refused (RFC 9449 section 5, the strict reading): it would protect less.
  if (result.output.token_type.toLowerCase() !== expectedType) {
    fail("grant.token-type-refused", {
      received: quoted(result.output.token_type),
      expected: expectedType === "dpop" ? "DPoP, because dpopBoundAccessTokens is on" : "Bearer",
    });
  }
  return result.output;
}

/** RFC 6749 5.1 and 5.2: 200, or 400 or 401 with an error code; everything else is the weather. */
async function readAnswer(
  answer: Answer,
  request: TokenRequest,
  { deviations, tools }: Provider,
): Promise<JsonObject> {
  await requireAvailable(tools, request.leg, answer, "grant.unavailable");
  // An empty body says no more than its status does.
  if (answer.status !== 200 && answer.text.trim() === "") return {};
  return readBody(answer, request.leg, deviations);
}

/** OpenID Connect Core 1.0 section 3.1.2.6: the person has to take part, as they have where a grant is over. */
const needsPerson = [
  "interaction_required",
  "login_required",
  "account_selection_required",
  "consent_required",
];

async function refuseError(
  answer: Answer,
  body: JsonObject,
  request: TokenRequest,
  provider: Provider,
): Promise<never> {
  const { refusalWithoutCode } = provider.deviations;
  // Only what is said of it: a page that was left open while the app was put up anew may not have that any more.
  const why = await import("../provider/why-refused.js").catch(() => undefined);
  const error = typeof body["error"] === "string" ? body["error"] : undefined;
  const description = body["error_description"];
  const received = `${request.leg}: status ${answer.status}, ${
    error === undefined
      ? `no error code${await wordsOf(answer)}`
      : quoted(error) + (typeof description === "string" ? `: ${quoted(description, 300)}` : "")
  }`;
  if (error === "invalid_client")
    fail("grant.client-refused", {
      received: `${received}; the client proved itself by ${provider.clientAuthentication}`,
      because: why?.clientBecause(provider),
    });
  const isRefresh = request.leg === "refresh request";
  // deviations.refusalWithoutCode: 400 or 401 and no code is what this provider says of a refresh token it does not honour.
  const isSilent =
    isRefresh && refusalWithoutCode === true && error === undefined && [400, 401].includes(answer.status);
  if (error === "invalid_grant" || isSilent || (isRefresh && needsPerson.includes(error ?? "")))
    fail(request.invalidGrant, { received });
  fail("grant.provider-error", { received, because: why?.errorBecause(error, answer.status, body) });
}

async function readBody(answer: Answer, leg: string, deviations: Deviations): Promise<JsonObject> {
  try {
    return parseJsonObject(answer.text, leg);
  } catch (error) {
    if (!isProblem(error, "jose.not-json")) throw error;
    if (deviations.formEncodedTokenAnswer === true)
      return Object.fromEntries(new URLSearchParams(answer.text));
    const { kind, because } = describeBody(answer);
    // A refusal in a text of its own is one without a code, and what it says is told as such.
    if (answer.status !== 200 && because !== "page") return {};
    const words = because === "page" ? await wordsOf(answer) : "";
    fail("platform.not-json", {
      received: `${leg}: status ${answer.status}, ${kind}, ${answer.text.length} characters${words}`,
      because,
      cause: error,
    });
  }
}
