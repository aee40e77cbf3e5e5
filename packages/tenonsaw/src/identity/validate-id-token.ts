import { decodeBase64url, encodeBase64url, hashOf, type JsonObject } from "../jose/index.js";
import { isInstant, limits, type SignatureAlgorithm } from "../platform/index.js";
import { fail, quoted, quotedList } from "../problem/index.js";
import {
  checkIssuer,
  checkKind,
  clockToleranceSeconds,
  isWithin,
  oddClaims,
  openToken,
  requireProvider,
  untrustedAudiences,
  type ClaimRules,
  type Deviations,
  type Provider,
} from "../provider/index.js";
import { check, checkSecret, requireFit, type Tools } from "../trace/index.js";

/** The claims every ID token has, and any others (OpenID Connect Core 1.0 section 2). */
export interface IdTokenClaims extends JsonObject {
  readonly iss: string;
  readonly sub: string;
  readonly aud: string | readonly string[];
  readonly exp: number;
  readonly iat: number;
}

/** What an ID token is held against. */
export interface Expectation {
  /** Left out where none was sent: device authorization has no place for it. */
  readonly nonce?: string;
  /** The access token that came with it. */
  readonly accessToken?: string;
  /** Whether it came through the browser: then what came with it has to be in it by its hash. */
  readonly isFromBrowser?: boolean;
  /** The code and state that came with it through the browser. */
  readonly code?: string;
  readonly state?: string;
  /** What the request asked for. */
  readonly maxAge?: number;
  readonly acrValues?: readonly string[];
}

/**
 * Validates an ID token: OpenID Connect Core 1.0 sections 3.1.3.7 and 3.1.3.8, and where it came through the browser
 * 3.2.2.11 and 3.3.2.10 to 3.3.2.12.
 *
 * @throws jose.* for its form, algorithm, key and signature; identity.* for its claims
 */
export async function validateIdToken(
  provider: Provider,
  idToken: string,
  expected: Expectation,
): Promise<IdTokenClaims> {
  requireProvider(provider);
  requireFit(expected, (given) => typeof given === "object", "what it is held against: { nonce }");
  const { tools, registered } = provider;
  if (!provider.keys)
    fail("identity.id-token-missing", { received: "a provider whose settings say that it has no ID tokens" });
  // Steps 1 and 6–8: encrypted where that was agreed; signature always checked, though TLS would excuse it in the code
  // flow; algorithm as registered. First of all, so that no claim of a forged token is ever looked at.
  const encryption = registered.idTokenEncryptedResponseAlg;
  const { header, payload } = await openToken(provider, idToken, provider.signatureAlgorithms, encryption);
  // RFC 8725 3.11: a token that says it is of another kind is not an ID token, whatever else is in it.
  checkKind(tools, "identity.token-kind-mismatch", header, ["jwt"]);
  const claims = requireClaims(payload);
  checkIdTokenClaims(tools, claims, provider);
  // Step 11: the nonce of this attempt.
  if (expected.nonce !== undefined) {
    const { nonce } = claims;
    if (typeof nonce !== "string") fail("identity.nonce-missing", { received: "no `nonce`" });
    await checkSecret(tools, "identity.nonce-mismatch", nonce, expected.nonce);
  }
  checkAuthentication(tools, claims, expected);
  const algorithm = header.alg as SignatureAlgorithm;
  const isFromBrowser = expected.isFromBrowser === true;
  // 3.1.3.8, 3.2.2.9, 3.3.2.9, 3.3.2.10: left out at will where the token came straight from the token endpoint.
  await checkHash(tools, claims, "at_hash", expected.accessToken, algorithm, isFromBrowser);
  await checkHash(tools, claims, "c_hash", expected.code, algorithm, isFromBrowser);
  // Financial-grade API 1.0 part 2 section 5.1.1: the hash of the state, where there is one.
  await checkHash(tools, claims, "s_hash", expected.state, algorithm, false);
  return claims;
}

/** Steps 12 and 13: what the request asked for about when and how the person proved who they are. */
function checkAuthentication(tools: Tools, claims: IdTokenClaims, { maxAge, acrValues }: Expectation): void {
  if (acrValues) {
    const { acr } = claims;
    // Core 5.5.1.1 lets a provider pass over acr_values; who asks for a way of proving wants that way, or to be told.
    const isAmong = typeof acr === "string" && acrValues.includes(acr);
    check(tools, "identity.authentication-class-mismatch", isAmong, () => ({
      received: acr === undefined ? "no `acr`" : quoted(acr),
      expected: acrValues.join(" or "),
    }));
  }
  if (maxAge === undefined) return;
  const authTime = claims["auth_time"];
  const age = typeof authTime === "number" ? tools.platform.now() - authTime : Number.NaN;
  const isRecent = isWithin(maxAge + clockToleranceSeconds, age);
  check(tools, "identity.authentication-too-old", isRecent, () => ({
    received: Number.isNaN(age)
      ? "no `auth_time`"
      : age < 0
        ? `an \`auth_time\` that is ${Math.round(-age)} s ahead`
        : `${Math.round(age)} s since the person proved who they are`,
    expected: `at most ${maxAge} s, and ${clockToleranceSeconds} s for the clocks`,
  }));
}

const hashProblems = {
  at_hash: "identity.access-token-hash-mismatch",
  c_hash: "identity.code-hash-mismatch",
  s_hash: "identity.state-hash-mismatch",
} as const;

/** One of the hashes that bind an ID token to what came with it. */
async function checkHash(
  tools: Tools,
  claims: IdTokenClaims,
  name: keyof typeof hashProblems,
  value: string | undefined,
  algorithm: SignatureAlgorithm,
  isRequired: boolean,
): Promise<void> {
  const claim = claims[name];
  if (value === undefined || (claim === undefined && !isRequired)) return;
  const actual = await halfHash(tools, value, algorithm);
  await checkSecret(tools, hashProblems[name], typeof claim === "string" ? claim : "", actual);
}

/**
 * The claims checks that need neither key nor attempt: 3.1.3.7 steps 2–5, 9 and 10. Also used to explain a token.
 *
 * @throws identity.*
 */
export function checkIdTokenClaims(
  tools: Tools,
  claims: IdTokenClaims,
  client: {
    readonly issuer: string;
    readonly clientId: string;
    readonly deviations?: Deviations;
    readonly trustedAudiences?: readonly string[];
  },
): void {
  requireFit(tools, ({ platform }) => typeof platform === "object", "the tools, such as provider.tools");
  requireFit(claims, (given) => typeof given === "object", "the claims of an ID token");
  requireFit(client, (given) => typeof given.clientId === "string", "whom it is for: { issuer, clientId }");
  const { clientId } = client;
  const now = tools.platform.now();
  // Step 2: the issuer, exactly; or one of its tenants, where that is declared.
  checkIssuer(tools, "identity.issuer-mismatch", client, claims.iss);
  // Step 3: this client is an audience, and others beside it are only those that the settings trust.
  const audiences = typeof claims.aud === "string" ? [claims.aud] : claims.aud;
  check(tools, "identity.audience-mismatch", audiences.includes(clientId), () => ({
    received: quotedList(audiences) ?? "no audience",
    expected: quoted(clientId),
  }));
  const others = untrustedAudiences(claims.aud, client);
  check(tools, "identity.audience-untrusted", others.length === 0, () => ({
    received: quotedList(others) ?? "no other audience",
    expected: ["only", quoted(clientId), ...(client.trustedAudiences ?? []).map((each) => quoted(each))].join(
      " ",
    ),
  }));
  // Step 4: several audiences need `azp`.
  const azp = claims["azp"];
  check(tools, "identity.authorized-party-missing", audiences.length === 1 || azp !== undefined, () => ({
    received: `${audiences.length} audience${audiences.length === 1 ? "" : "s"}, ${azp === undefined ? "no `azp`" : "`azp`"}`,
  }));
  // Step 5: `azp`, wherever it is, is this client.
  check(tools, "identity.authorized-party-mismatch", azp === undefined || azp === clientId, () => ({
    received: azp === undefined ? "no `azp`, none needed" : quoted(azp),
    expected: quoted(clientId),
  }));
  // Step 9: not past `exp`.
  check(tools, "identity.expired", now < claims.exp + clockToleranceSeconds, () => ({
    received: `exp ${claims.exp}, ${describeDistance(claims.exp - now)}; iat ${claims.iat}, ${describeDistance(claims.iat - now)}`,
    ...(isJustNow(claims, now) ? { because: "lifetime" as const } : clockHint(claims.iat - now)),
  }));
  // Step 10 lets a client judge `iat`; one from the future is refused. So is `nbf` (RFC 7519 4.1.5).
  const startsAt = Math.max(claims.iat, typeof claims["nbf"] === "number" ? claims["nbf"] : -Infinity);
  check(tools, "identity.not-yet-valid", startsAt <= now + clockToleranceSeconds, () => ({
    received: `valid from ${startsAt}, ${describeDistance(startsAt - now)}; iat ${claims.iat}`,
    ...(isJustNow(claims, now) ? { because: "later" as const } : clockHint(startsAt - now)),
  }));
}

/**
 * The claims that every ID token has (OpenID Connect Core 1.0 section 2).
 *
 * @throws identity.claim-missing naming every claim that is absent or of another type
 */
export function requireClaims(payload: JsonObject): IdTokenClaims {
  requireFit(payload, (given) => typeof given === "object", "the claims of an ID token");
  for (const [name, holds] of claimRules) {
    if (!holds(payload[name])) refuseClaims(payload);
  }
  for (const [name, holds] of optionalRules) {
    if (payload[name] !== undefined && !holds(payload[name])) refuseClaims(payload);
  }
  return payload as IdTokenClaims;
}

const isText = (value: unknown): value is string => typeof value === "string" && value !== "";
const isShort = (most: number) => (value: unknown) => isText(value) && value.length <= most;
const claimRules: ClaimRules = [
  ["iss", isText],
  // Core 2: `sub` is at most 255 ASCII characters.
  ["sub", (value) => isText(value) && /^[\x20-\x7e]+$/.test(value) && value.length <= limits.subject],
  ["aud", (value) => isText(value) || (Array.isArray(value) && value.length > 0 && value.every(isText))],
  ["exp", isInstant],
  ["iat", isInstant],
];

/** Claims that need not be there; where one is of another type it is not as if it were not there, it is refused. */
const optionalRules: ClaimRules = [
  ["nbf", isInstant],
  ["auth_time", isInstant],
  ["acr", isShort(limits.authenticationClass)],
  ["azp", isText],
  ["nonce", isText],
  ["sid", isShort(limits.tokenId)],
  ["at_hash", isText],
  ["c_hash", isText],
  ["s_hash", isText],
  ["amr", (value) => Array.isArray(value) && value.every((each) => typeof each === "string")],
];

function refuseClaims(payload: JsonObject): never {
  const rules = [...claimRules, ...optionalRules.filter(([name]) => payload[name] !== undefined)];
  const names = quotedList(Object.keys(payload)) ?? "(none)";
  fail("identity.claim-missing", { received: `the claims ${names}`, ...oddClaims(rules, payload) });
}

/** The left half of a value's hash, by the hash that the signature algorithm uses: 3.1.3.6, 3.3.2.11. */
async function halfHash(tools: Tools, value: string, algorithm: SignatureAlgorithm): Promise<string> {
  const digest = decodeBase64url(await tools.platform.crypto.digestText(hashOf(algorithm), value));
  return encodeBase64url(digest.subarray(0, digest.length / 2));
}

/** Where a token was made just now by this clock too, the clocks agree. */
const isJustNow = ({ iat }: IdTokenClaims, now: number) => Math.abs(iat - now) <= clockToleranceSeconds;

/** A token comes fresh from the provider, so where its times do not fit, that is the difference of the clocks. */
function clockHint(seconds: number): { readonly here: string } {
  const where = seconds < 0 ? "ahead of" : "behind";
  return {
    here: `If this token was issued just now, your clock is ${Math.round(Math.abs(seconds))} seconds ${where} the provider's: set it.`,
  };
}

function describeDistance(seconds: number): string {
  const rounded = Math.round(Math.abs(seconds));
  return seconds < 0 ? `${rounded} s ago` : `${rounded} s from now`;
}
