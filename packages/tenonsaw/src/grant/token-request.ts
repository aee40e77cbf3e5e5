import * as v from "valibot";
import { parseJsonObject, type JsonObject, type Jwk } from "../jose/index.js";
import { fail, isProblem, quoted, type ProblemCode } from "../problem/index.js";
import {
  authenticateClient,
  createDpopKey,
  sendProven,
  type Deviations,
  type Provider,
} from "../provider/index.js";
import type { Answer } from "../trace/index.js";
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
}

// RFC 6749 5.1. A lifetime as text is common and harms nobody; a negative one or words are refused.
const lifetime = v.pipe(
  v.union([v.number(), v.pipe(v.string(), v.regex(/^\d{1,15}$/), v.transform(Number))]),
  v.finite(),
  v.minValue(0),
);
const nonEmpty = v.pipe(v.string(), v.minLength(1));
const tokenAnswer = v.object({
  access_token: nonEmpty,
  token_type: v.string(),
  expires_in: v.optional(lifetime),
  refresh_token: v.optional(nonEmpty),
  scope: v.optional(v.string()),
  id_token: v.optional(nonEmpty),
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
    };
  };
  const answer = await sendProven(tools, prepare, dpopKey);
  const { deviations } = provider;
  const body = readAnswer(answer, request, deviations, tools.platform.now());
  const isError =
    answer.status !== 200 || (deviations.errorInside200 === true && body["error"] !== undefined);
  const { error } = body;
  if (isError && typeof error === "string" && awaited.includes(error)) return { error };
  if (isError) refuseError(answer, body, request);
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
    ...(tokens.expires_in !== undefined && { expiresAt: obtainedAt + Math.floor(tokens.expires_in) }),
    ...(tokens.refresh_token !== undefined && { refreshToken: tokens.refresh_token }),
    ...(tokens.id_token !== undefined && { idToken: tokens.id_token }),
    ...(dpopKey && { dpopKey }),
    ...(deviations.identityInTokenAnswer === true && { answer: body }),
  };
  return { grant };
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
      received: `the members ${
        Object.keys(body)
          .map((name) => quoted(name, 40))
          .join(", ") || "(none)"
      }`,
      findings: result.issues.map((issue) => ({
        path: v.getDotPath(issue) ?? "(answer)",
        message: issue.received === "undefined" ? "is missing" : "has a value that is not allowed",
      })),
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
function readAnswer(answer: Answer, request: TokenRequest, deviations: Deviations, now: number): JsonObject {
  if (answer.status >= 500 || answer.status === 429) {
    const retryAfterSeconds = readRetryAfter(answer.headers.get("retry-after"), now);
    const later = retryAfterSeconds === undefined ? "" : `, again in ${retryAfterSeconds} s`;
    fail("grant.unavailable", {
      received: `${request.leg}: status ${answer.status}${later}`,
      ...(retryAfterSeconds !== undefined && { retryAfterSeconds }),
    });
  }
  // An empty body says no more than its status does.
  if (answer.status !== 200 && answer.text.trim() === "") return {};
  return readBody(answer, request.leg, deviations);
}

/** RFC 9110 section 10.2.3: seconds, or a date. Nobody is made to wait for more than a day by it. */
function readRetryAfter(value: string | null, now: number): number | undefined {
  if (value === null) return undefined;
  const seconds = /^\d+$/.test(value) ? Number(value) : Date.parse(value) / 1000 - now;
  return Number.isFinite(seconds) ? Math.min(86_400, Math.max(0, Math.ceil(seconds))) : undefined;
}

function refuseError(answer: Answer, body: JsonObject, request: TokenRequest): never {
  const error = typeof body["error"] === "string" ? body["error"] : undefined;
  const description = body["error_description"];
  const received = `${request.leg}: status ${answer.status}, ${error === undefined ? "no error code" : quoted(error)}${
    typeof description === "string" ? `: ${quoted(description, 300)}` : ""
  }`;
  if (error === "invalid_client") fail("grant.client-refused", { received });
  if (error === "invalid_grant") fail(request.invalidGrant, { received });
  fail("grant.provider-error", { received });
}

function readBody(answer: Answer, leg: string, deviations: Deviations): JsonObject {
  try {
    return parseJsonObject(answer.text, leg);
  } catch (error) {
    if (!isProblem(error, "jose.not-json")) throw error;
    if (deviations.formEncodedTokenAnswer === true)
      return Object.fromEntries(new URLSearchParams(answer.text));
    const kind = answer.headers.get("content-type") ?? "no content type";
    fail("platform.not-json", {
      received: `${leg}: status ${answer.status}, ${quoted(kind)}, ${answer.text.length} characters`,
      cause: error,
    });
  }
}
