import { decodeBase64url, encodeBase64url, hashOf, verifyJws, type JsonObject } from "../jose/index.js";
import type { SignatureAlgorithm } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { checkIssuer, type Deviations, type Provider } from "../provider/index.js";
import { check, checkSecret, type Tools } from "../trace/index.js";

/** How far the two clocks may differ, in seconds. */
export const clockToleranceSeconds = 60;

/** The claims every ID token has, and any others (OpenID Connect Core 1.0 section 2). */
export interface IdTokenClaims extends JsonObject {
  readonly iss: string;
  readonly sub: string;
  readonly aud: string | readonly string[];
  readonly exp: number;
  readonly iat: number;
}

interface Expectation {
  /** Left out where none was sent: device authorization has no place for it. */
  readonly nonce?: string;
  /** The access token that came with it. */
  readonly accessToken: string;
}

/**
 * Validates the ID token of the code flow: OpenID Connect Core 1.0 sections 3.1.3.7 and 3.1.3.8.
 *
 * @throws jose.* for its form, algorithm, key and signature; identity.* for its claims
 */
export async function validateIdToken(
  provider: Provider,
  idToken: string,
  expected: Expectation,
): Promise<IdTokenClaims> {
  const { tools, keys } = provider;
  if (!keys)
    fail("identity.id-token-missing", { received: "a provider whose settings say that it has no ID tokens" });
  // 3.1.3.7 step 1 (decryption) does not arise: encrypted tokens are not asked for, and refused.
  // Steps 6–8: signature always checked, though TLS would excuse it in this flow; algorithm from the metadata's.
  // Read first, so that no claim of a forged token is ever looked at.
  const { header, payload } = await verifyJws(
    tools,
    idToken,
    provider.signatureAlgorithms,
    (header, algorithm) => provider.macKey ?? keys.find(header, algorithm),
  );
  const claims = requireClaims(payload);
  checkIdTokenClaims(tools, claims, provider);
  // Step 11: the nonce of this attempt.
  if (expected.nonce !== undefined) {
    const { nonce } = claims;
    if (typeof nonce !== "string") fail("identity.nonce-missing", { received: "no `nonce`" });
    await checkSecret(tools, "identity.nonce-mismatch", nonce, expected.nonce);
  }
  // Steps 12 and 13 (`acr`, `auth_time`) apply when they were asked for, which this request never does.
  // 3.1.3.8: in this flow `at_hash` may be left out; where it is, it has to fit.
  const atHash = claims["at_hash"];
  if (atHash !== undefined) {
    const actual = await accessTokenHash(tools, expected.accessToken, header.alg);
    await checkSecret(
      tools,
      "identity.access-token-hash-mismatch",
      typeof atHash === "string" ? atHash : "",
      actual,
    );
  }
  return claims;
}

/**
 * The claims checks that need neither key nor attempt: 3.1.3.7 steps 2–5, 9 and 10. Also used to explain a token.
 *
 * @throws identity.*
 */
export function checkIdTokenClaims(
  tools: Tools,
  claims: IdTokenClaims,
  client: { readonly issuer: string; readonly clientId: string; readonly deviations?: Deviations },
): void {
  const { clientId } = client;
  const now = tools.platform.now();
  // Step 2: the issuer, exactly; or one of its tenants, where that is declared.
  checkIssuer(tools, "identity.issuer-mismatch", client, claims.iss);
  // Step 3: this client is an audience. Others beside it are only admitted if `azp` says that this client asked.
  const audiences = typeof claims.aud === "string" ? [claims.aud] : claims.aud;
  check(tools, "identity.audience-mismatch", audiences.includes(clientId), () => ({
    received: audiences.map((audience) => quoted(audience)).join(", ") || "no audience",
    expected: quoted(clientId),
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
    received: `exp ${claims.exp}, ${describeDistance(claims.exp - now)}`,
  }));
  // Step 10 lets a client judge `iat`; one from the future is refused. So is `nbf` (RFC 7519 4.1.5).
  const startsAt = Math.max(claims.iat, typeof claims["nbf"] === "number" ? claims["nbf"] : -Infinity);
  check(tools, "identity.not-yet-valid", startsAt <= now + clockToleranceSeconds, () => ({
    received: `valid from ${startsAt}, ${describeDistance(startsAt - now)}`,
  }));
}

/** @throws identity.claim-missing naming every claim that is absent or of another type */
export function requireClaims(payload: JsonObject): IdTokenClaims {
  for (const [name, holds] of claimRules) {
    if (!holds(payload[name])) refuseClaims(payload);
  }
  return payload as IdTokenClaims;
}

const isText = (value: unknown): value is string => typeof value === "string" && value !== "";
const isInstant = (value: unknown) => typeof value === "number" && Number.isFinite(value);
const claimRules: readonly (readonly [string, (value: unknown) => boolean])[] = [
  ["iss", isText],
  // Core 2: `sub` is at most 255 ASCII characters.
  ["sub", (value) => isText(value) && /^[\x20-\x7e]{1,255}$/.test(value)],
  ["aud", (value) => isText(value) || (Array.isArray(value) && value.length > 0 && value.every(isText))],
  ["exp", isInstant],
  ["iat", isInstant],
];

function refuseClaims(payload: JsonObject): never {
  const findings = claimRules
    .filter(([name, holds]) => !holds(payload[name]))
    .map(([name]) => ({
      path: name,
      message: payload[name] === undefined ? "is missing" : "has a value that is not allowed",
    }));
  const names = Object.keys(payload).map((name) => quoted(name, 40));
  fail("identity.claim-missing", { received: `the claims ${names.join(", ")}`, findings });
}

/**
 * `at_hash` for an access token: 3.1.3.6, the left half of the hash that the signature algorithm uses.
 */
async function accessTokenHash(tools: Tools, accessToken: string, alg: string): Promise<string> {
  const hash = hashOf(alg as SignatureAlgorithm);
  const digest = decodeBase64url(await tools.platform.crypto.digestText(hash, accessToken));
  return encodeBase64url(digest.subarray(0, digest.length / 2));
}

function describeDistance(seconds: number): string {
  const rounded = Math.round(Math.abs(seconds));
  return seconds < 0 ? `${rounded} s ago` : `${rounded} s from now`;
}
