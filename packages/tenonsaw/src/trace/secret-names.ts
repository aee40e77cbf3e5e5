import { bytesFromBase64url, type Platform } from "../platform/index.js";

/** Parameters and members whose values never leave: RFC 6749, OpenID Connect Core 1.0, RFC 5849, RFC 7009, RFC 7523; and SMART App Launch 2.2: whose record. */
const secretNames: ReadonlySet<string> = new Set([
  "_claim_sources",
  "access_token",
  "actor_token",
  "assertion",
  "client_assertion",
  "client_secret",
  "code",
  "code_verifier",
  "device_code",
  "encounter",
  "id_token",
  "id_token_hint",
  "launch",
  "logout_token",
  "nonce",
  "oauth_nonce",
  "oauth_signature",
  "oauth_token",
  "oauth_token_secret",
  "oauth_verifier",
  "password",
  "patient",
  "refresh_token",
  "subject_token",
  "registration_access_token",
  "request",
  "response",
  "state",
  "token",
]);

/** Whether a member or parameter of this name is a secret, and shown as a fingerprint only. */
export function isSecretName(name: string): boolean {
  return secretNames.has(name.toLowerCase());
}

/** The first 8 hex digits of the value's SHA-256: enough to compare by, useless to sign in with. */
export async function fingerprint(platform: Platform, value: string): Promise<string> {
  const digest = bytesFromBase64url(await platform.crypto.digestText("SHA-256", value)) ?? [];
  const hex = Array.from(digest.slice(0, 4), (byte) => byte.toString(16).padStart(2, "0"));
  return `#${hex.join("")}`;
}
