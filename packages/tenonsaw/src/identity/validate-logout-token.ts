import { fail, quoted } from "../problem/index.js";
import {
  checkIssuer,
  clockToleranceSeconds,
  isAudience,
  openToken,
  type Provider,
} from "../provider/index.js";
import { check } from "../trace/index.js";

const logoutEvent = "http://schemas.openid.net/event/backchannel-logout";

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
  const holds = (isSo: boolean, expected: string, received: string) => {
    check(tools, "identity.logout-token-refused", isSo, () => ({ expected, received }));
  };
  const { iss, sub, sid, aud, iat, exp, jti, events } = payload;
  // 2.4 recommends an explicit type; where there is one, it says what this is (RFC 8725 section 3.11).
  const typ = header.typ?.toLowerCase();
  holds(
    typ === undefined || typ === "jwt" || typ === "logout+jwt",
    "typ logout+jwt",
    quoted(typ ?? "no typ"),
  );
  checkIssuer(tools, "identity.issuer-mismatch", provider, typeof iss === "string" ? iss : "");

  holds(isAudience(aud, clientId), `aud with ${quoted(clientId)}`, quoted(JSON.stringify(aud ?? null)));
  const now = tools.platform.now();
  const isTimely =
    typeof iat === "number" &&
    typeof exp === "number" &&
    iat <= now + clockToleranceSeconds &&
    now < exp + clockToleranceSeconds;
  holds(isTimely, "iat that has begun, and exp that is not over", `iat ${String(iat)}, exp ${String(exp)}`);
  // Steps 4–6: somebody, the event, and no nonce, which would make an ID token of it.
  const isText = (value: unknown) => typeof value === "string" && value !== "";
  const isWellFormed = [sub, sid].every((value) => value === undefined || isText(value));
  holds(isWellFormed && (isText(sub) || isText(sid)), "sub or sid", Object.keys(payload).join(", "));
  holds(isLogoutEvent(events), `events with ${logoutEvent}`, quoted(JSON.stringify(events ?? null)));
  holds(!("nonce" in payload), "no nonce", "nonce" in payload ? "`nonce`" : "none");
  holds(isText(jti), "jti", isText(jti) ? "jti" : "no jti");
  return {
    issuer: String(iss),
    ...(isText(sub) && { subject: String(sub) }),
    ...(isText(sid) && { providerSessionId: String(sid) }),
    id: String(jti),
    expiresAt: Number(exp),
  };
}

function isLogoutEvent(events: unknown): boolean {
  if (typeof events !== "object" || events === null || !Object.hasOwn(events, logoutEvent)) return false;
  const member = (events as Readonly<Record<string, unknown>>)[logoutEvent];
  return typeof member === "object" && member !== null && !Array.isArray(member);
}
