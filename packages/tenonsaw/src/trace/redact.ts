import { bytesFromBase64url, type Platform } from "../platform/index.js";

/** Parameters and members whose values never leave: RFC 6749, OpenID Connect Core 1.0, RFC 5849, RFC 7009, RFC 7523. */
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
  "id_token",
  "id_token_hint",
  "nonce",
  "oauth_nonce",
  "oauth_signature",
  "oauth_token",
  "oauth_token_secret",
  "oauth_verifier",
  "password",
  "refresh_token",
  "subject_token",
  "registration_access_token",
  "state",
  "token",
]);

export function isSecretName(name: string): boolean {
  return secretNames.has(name.toLowerCase());
}

/** The first 8 hex digits of the value's SHA-256: enough to compare by, useless to sign in with. */
export async function fingerprint(platform: Platform, value: string): Promise<string> {
  const digest = bytesFromBase64url(await platform.crypto.digestText("SHA-256", value)) ?? [];
  const hex = Array.from(digest.slice(0, 4), (byte) => byte.toString(16).padStart(2, "0"));
  return `#${hex.join("")}`;
}

/** Each entry as text, secrets by fingerprint, long values cut. */
export async function redactEntries(
  platform: Platform,
  entries: Iterable<readonly [string, unknown]>,
): Promise<Readonly<Record<string, string>>> {
  const redacted: [string, string][] = [];
  for (const [name, value] of entries) {
    const text = typeof value === "string" ? value : JSON.stringify(value);
    redacted.push([name, isSecretName(name) ? await fingerprint(platform, text) : shorten(text)]);
  }
  return Object.fromEntries(redacted);
}

/** The URL with the values of secret query parameters replaced by fingerprints. */
export async function redactUrl(platform: Platform, url: string): Promise<string> {
  if (!URL.canParse(url)) return shorten(url);
  const redacted = new URL(url);
  for (const [name, value] of new URL(url).searchParams) {
    if (isSecretName(name)) redacted.searchParams.set(name, await fingerprint(platform, value));
  }
  return redacted.href.replaceAll("=%23", "=#");
}

function shorten(text: string): string {
  return text.length > 200 ? `${text.slice(0, 200)}…` : text;
}
