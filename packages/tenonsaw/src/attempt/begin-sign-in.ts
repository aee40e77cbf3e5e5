import { encodeBase64url, thumbprint, type JsonObject, type Jwk } from "../jose/index.js";
import { isUrl, isSecureUrl, type Platform } from "../platform/index.js";
import { fail, quoted, type CauseOf, type ProblemDetail } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { createDpopKey, requireProvider, type Provider } from "../provider/index.js";
import { shapeOf } from "../trace/index.js";
import { codeChallenge } from "./pkce.js";

/** An attempt is good for ten minutes. */
export const attemptLifetimeSeconds = 600;

/** One trip to a provider: everything the way back is held against. Plain data, and secret until it is over. */
export interface Attempt {
  readonly issuer: string;
  readonly clientId: string;
  readonly redirectUri: string;
  readonly scope: string;
  readonly state: string;
  readonly nonce: string;
  readonly codeVerifier: string;
  /** What the access token is to be bound to, as private JWK. */
  readonly dpopKey?: Jwk;
  /** What the ID token has to say, because the request asked for it. */
  readonly maxAge?: number;
  readonly acrValues?: readonly string[];
  /** Seconds since the epoch. */
  readonly beganAt: number;
  readonly expiresAt: number;
}

/** What to ask for, by the names of OpenID Connect Core 1.0 section 3.1.2.1 where not said otherwise. */
export interface SignInRequest {
  /** Where the provider sends the browser back to, exactly as registered. */
  readonly redirectUri: string;
  /** Scopes to ask for instead of the provider's; must contain `openid`. */
  readonly scope?: string;
  /** Asks the person again, or nobody at all: `login`, `consent`, `select_account`, or `none` alone. */
  readonly prompt?: string;
  /** At most so many seconds since the person proved who they are. The ID token is held to it. */
  readonly maxAge?: number;
  /** How the person is to prove who they are: values separated by spaces, the best first. The ID token is held to them. */
  readonly acrValues?: string;
  readonly loginHint?: string;
  readonly idTokenHint?: string;
  /** Languages of the provider's pages (BCP 47), the best first. */
  readonly uiLocales?: string;
  readonly display?: "page" | "popup" | "touch" | "wap";
  /** Single claims: section 5.5. */
  readonly claims?: JsonObject;
  /** APIs the access token is for: RFC 8707 section 2. */
  readonly resource?: readonly string[];
  /** What exactly the access token is to allow: RFC 9396 section 2. */
  readonly authorizationDetails?: readonly JsonObject[];
  /** The host's own opaque value, where it has opened this app: SMART App Launch 2.2. `beginLaunch` checks what belongs to it. */
  readonly launch?: string;
}

/**
 * Begins a sign-in: OpenID Connect Core 1.0 section 3.1.2.1 with PKCE (RFC 7636 section 4). Send the browser to
 * `url` and keep `attempt`, bound to that browser, until it comes back.
 *
 * @throws provider.not-open, attempt.redirect-uri-refused, attempt.parameters-refused; where requests are sent ahead, also grant.client-refused, attempt.request-refused and platform.*
 */
export async function beginSignIn(
  provider: Provider,
  request: SignInRequest,
): Promise<{ readonly url: string; readonly attempt: Attempt }> {
  requireSound(provider, request);
  const { redirectUri, scope = provider.scope, maxAge, acrValues } = request;
  if (!isSecureUrl(redirectUri) || redirectUri.includes("#")) {
    fail("attempt.redirect-uri-refused", { received: quoted(redirectUri) });
  }
  const { platform } = provider.tools;
  const beganAt = Math.floor(platform.now());
  const attempt: Attempt = {
    issuer: provider.issuer,
    clientId: provider.clientId,
    redirectUri,
    scope,
    state: randomText(platform),
    nonce: randomText(platform),
    codeVerifier: randomText(platform),
    ...(provider.bindsTokens && { dpopKey: await createDpopKey(provider.tools) }),
    ...(maxAge !== undefined && { maxAge }),
    ...(acrValues !== undefined && { acrValues: acrValues.split(" ") }),
    beganAt,
    expiresAt: beganAt + attemptLifetimeSeconds,
  };
  return { url: await authorizationUrl(provider, attempt, request), attempt };
}

type Parameters = readonly (readonly [string, string])[];

async function authorizationUrl(
  provider: Provider,
  attempt: Attempt,
  request: SignInRequest,
): Promise<string> {
  const plain = await requestParameters(provider, attempt, request);
  const signed = provider.registered.requestObjectSigningAlg
    ? await (await loadPart(import("./sign-request.js"))).signRequest(provider, plain)
    : plain;
  const sent = provider.pushesRequests
    ? await (await loadPart(import("./push-request.js"))).pushRequest(provider, signed)
    : signed;
  // RFC 6749 3.1: parameters the endpoint's own address carries stay.
  const url = new URL(provider.metadata.authorization_endpoint);
  for (const [name] of sent) url.searchParams.delete(name);
  for (const [name, value] of sent) url.searchParams.append(name, value);
  return url.href;
}

async function requestParameters(
  provider: Provider,
  attempt: Attempt,
  request: SignInRequest,
): Promise<Parameters> {
  const scopes = attempt.scope.split(" ");
  const { responseType, responseMode } = provider;
  const defaultMode = responseType === "code" ? "query" : "fragment";
  // Core 11: offline access has to be asked for together with consent.
  const isSmart = provider.host?.isSmart === true;
  // SMART App Launch 2.2 leaves it to the host whether its people are asked.
  const prompt = request.prompt ?? (scopes.includes("offline_access") && !isSmart ? "consent" : undefined);
  const parameters: Readonly<Record<string, string | undefined>> = {
    ...provider.authorizationParameters,
    response_type: responseType,
    response_mode: responseMode === defaultMode ? undefined : responseMode,
    client_id: attempt.clientId,
    redirect_uri: attempt.redirectUri,
    scope: scopes.join(provider.deviations.scopeSeparator ?? " "),
    state: attempt.state,
    // Core 3.1.2.1: part of OpenID requests; plain OAuth 2.0 servers may refuse what they do not know.
    nonce: scopes.includes("openid") ? attempt.nonce : undefined,
    code_challenge: responseType.includes("code")
      ? await codeChallenge(provider.tools.platform, attempt.codeVerifier)
      : undefined,
    code_challenge_method: responseType.includes("code") ? "S256" : undefined,
    // SMART App Launch 2.2, Authorization Request: which FHIR server the access token is for.
    aud: isSmart ? provider.host.base : undefined,
    // RFC 9449 10: the code is then good with this key only.
    dpop_jkt: attempt.dpopKey && (await thumbprint(provider.tools, attempt.dpopKey)),
    prompt,
    max_age: request.maxAge?.toString(),
    ...Object.fromEntries(Object.entries(asTheyAre).map(([name, wire]) => [wire, request[name as Text]])),
    claims: request.claims && JSON.stringify(request.claims),
    authorization_details: request.authorizationDetails && JSON.stringify(request.authorizationDetails),
    ...(request.resource && { resource: undefined }),
  };
  const single = Object.entries(parameters).filter(
    (entry): entry is [string, string] => entry[1] !== undefined,
  );
  return [...single, ...(request.resource ?? []).map((resource) => ["resource", resource] as const)];
}

/** What is asked for in the words that came, and what it is called in the request. */
const asTheyAre = {
  acrValues: "acr_values",
  loginHint: "login_hint",
  idTokenHint: "id_token_hint",
  uiLocales: "ui_locales",
  display: "display",
  launch: "launch",
} as const;
type Text = keyof typeof asTheyAre;

const noTexts = ["maxAge", "resource", "claims", "authorizationDetails"];
const known = ["redirectUri", "scope", "prompt", ...Object.keys(asTheyAre), ...noTexts];

/** Refuses what cannot be asked for, before it is sent: OpenID Connect Core 1.0 section 3.1.2.1. */
function requireSound(provider: Provider, request: SignInRequest): void {
  requireProvider(provider);
  const refuse = (because: CauseOf<"attempt.parameters-refused">, received: string, more?: ProblemDetail) =>
    fail("attempt.parameters-refused", { ...more, because, received });
  // As it comes from code without types.
  if (Object(request) !== request) refuse("no-request", shapeOf(request));
  for (const [name, value] of Object.entries<unknown>(request as object as Record<string, unknown>)) {
    if (!known.includes(name)) refuse("unknown", quoted(name, 40), { expected: known.join(", ") });
    if (value !== undefined && typeof value !== "string" && !noTexts.includes(name))
      refuse("not-text", `${name}: ${shapeOf(value)}`);
  }
  const { prompt, maxAge, resource = [] } = request;
  const prompts = prompt?.split(" ") ?? [];
  if (prompts.includes("none") && prompts.length > 1) refuse("prompt", quoted(prompt));
  if (maxAge !== undefined && !(Number.isInteger(maxAge) && maxAge >= 0))
    refuse("seconds", `maxAge ${quoted(String(maxAge))}`);
  // RFC 8707 2: absolute URIs without fragment.
  if (!Array.isArray(resource) || !resource.every((each: string) => isUrl(each) && !each.includes("#")))
    refuse("resource", quoted(resource));
}

/** 256 bits of randomness as 43 characters: as state, nonce and code verifier more than the standards ask for. */
function randomText(platform: Platform): string {
  return encodeBase64url(platform.randomBytes(32));
}
