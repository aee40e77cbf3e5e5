import { isInstant, limits } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import {
  checkIssuer,
  checkKind,
  clockToleranceSeconds,
  isAudience,
  openToken,
  untrustedAudiences,
  type Provider,
} from "../provider/index.js";
import { check } from "../trace/index.js";

const logoutEvent = "http://schemas.openid.net/event/backchannel-logout";

/** A notice without `exp` is good for so many seconds. */
const longestNoticeSeconds = 120;

/** Whom a provider has signed out: a subject, or one of its sessions, or both. */
export interface LogoutNotice {
  readonly issuer: string;
  readonly subject?: string;
  /** `sid`, the provider's own session. */
  readonly providerSessionId?: string;
  /** `jti`: the same notice never counts twice. */
  readonly id: string;
  /** Seconds since the epoch. */
  readonly expiresAt: number;
}

/**
 * Validates a logout token: OpenID Connect Back-Channel Logout 1.0 section 2.6. That it is not a replay is for the
 * caller to see to, by `id`.
 *
 * @throws identity.logout-token-refused, identity.issuer-mismatch, jose.*
 */
export async function validateLogoutToken(provider: Provider, token: string): Promise<LogoutNotice> {
  const { tools, keys, clientId, registered } = provider;
  // 2.4: encrypted if ID tokens are.
  const encryption = registered.idTokenEncryptedResponseAlg;
  if (!keys) fail("identity.logout-token-refused", { received: "one of a provider without ID tokens" });
  // Steps 1–3: the signature as for ID tokens; an algorithm of `none` is refused there.
  const { header, payload } = await openToken(provider, token, provider.signatureAlgorithms, encryption);
  const holds = (isSo: boolean, expected: string, received: string, because?: "form") => {
    check(tools, "identity.logout-token-refused", isSo, () => ({ expected, received, because }));
  };
  const { iss, sub, sid, aud, iat, nbf, exp, jti, events } = payload;
  const mayLackExpiry = provider.deviations.logoutTokenWithoutExpiry === true;
  // 2.4 recommends an explicit type; where there is one, it says what this is (RFC 8725 section 3.11).
  checkKind(tools, "identity.logout-token-refused", header, ["jwt", "logout+jwt"]);
  checkIssuer(tools, "identity.issuer-mismatch", provider, typeof iss === "string" ? iss : "");

  holds(isAudience(aud, clientId), `aud with ${quoted(clientId)}`, quoted(JSON.stringify(aud ?? null)));
  const others = untrustedAudiences(aud, provider);
  holds(others.length === 0, "no other audience than those in `trustedAudiences`", quoted(others));
  const now = tools.platform.now();
  // deviations.logoutTokenWithoutExpiry: it is then good for as long as its mark keeps it from counting twice.
  const end = exp === undefined && isInstant(iat) && mayLackExpiry ? iat + longestNoticeSeconds : exp;
  const isTimely =
    isInstant(iat) &&
    isInstant(end) &&
    iat <= now + clockToleranceSeconds &&
    (nbf === undefined || (isInstant(nbf) && nbf <= now + clockToleranceSeconds)) &&
    now < end + clockToleranceSeconds;
  holds(
    isTimely,
    "iat and nbf that have begun, and exp that is not over",
    `iat ${quoted(iat)}, nbf ${quoted(nbf)}, exp ${quoted(exp)}`,
  );
  // Steps 4–6: somebody, the event, and no nonce, which would make an ID token of it.
  const isText = (value: unknown) =>
    typeof value === "string" && value !== "" && value.length <= limits.tokenId;
  const isWellFormed = [sub, sid].every((value) => value === undefined || isText(value));
  holds(isWellFormed && (isText(sub) || isText(sid)), "sub or sid", Object.keys(payload).join(", "), "form");
  holds(isLogoutEvent(events), `events with ${logoutEvent}`, quoted(JSON.stringify(events ?? null)), "form");
  holds(!("nonce" in payload), "no nonce", "nonce" in payload ? "`nonce`" : "none", "form");
  holds(isText(jti), "jti", isText(jti) ? "jti" : "no jti", "form");
  return {
    issuer: String(iss),
    ...(isText(sub) && { subject: String(sub) }),
    ...(isText(sid) && { providerSessionId: String(sid) }),
    id: String(jti),
    expiresAt: Number(end),
  };
}

function isLogoutEvent(events: unknown): boolean {
  if (typeof events !== "object" || events === null || !Object.hasOwn(events, logoutEvent)) return false;
  const member = (events as Readonly<Record<string, unknown>>)[logoutEvent];
  return typeof member === "object" && member !== null && !Array.isArray(member);
}
