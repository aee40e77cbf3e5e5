import { bytesFromBinary, type Bytes } from "../platform/index.js";
import type { Tools } from "../trace/index.js";
import type { OAuth1Provider } from "./open-oauth1-provider.js";
import type { SignatureMethod } from "./settings-types.js";

export type Parameters = readonly (readonly [string, string])[];

/** What a request has that its signature covers. */
export interface SignedParts {
  readonly method: string;
  readonly url: string;
  /** Of the body, where that is a form. */
  readonly form: Parameters;
  /** `oauth_…`, without the signature. */
  readonly protocol: Parameters;
}

/** RFC 5849 section 3.6: UTF-8, everything but the unreserved characters escaped, hexadecimal in upper case. */
export function percentEncode(text: string): string {
  return encodeURIComponent(text.replace(/\p{Surrogate}/gu, "\ufffd")).replace(
    /[!'()*]/g,
    (character) => `%${character.charCodeAt(0).toString(16).toUpperCase()}`,
  );
}

/** RFC 5849 section 3.4.1.1. */
export function signatureBaseString({ method, url, form, protocol }: SignedParts): string {
  const { origin, pathname, searchParams } = new URL(url);
  // 3.4.1.2: scheme and host in lower case, a default port left out, the path as it is sent: a parsed URL has all that.
  const parts = [method.toUpperCase(), origin + pathname, normalise([...searchParams, ...form, ...protocol])];
  return parts.map(percentEncode).join("&");
}

/** RFC 5849 section 3.4.1.3.2: sorted by encoded name, then by encoded value, byte by byte. */
function normalise(parameters: Parameters): string {
  const encoded = parameters.map(([name, value]) => [percentEncode(name), percentEncode(value)] as const);
  const compare = (left: string, right: string) => (left < right ? -1 : left > right ? 1 : 0);
  return encoded
    .sort(([name, value], [other, otherValue]) => compare(name, other) || compare(value, otherValue))
    .map(([name, value]) => `${name}=${value}`)
    .join("&");
}

/** What a request is signed with: RFC 5849 sections 3.4.2 to 3.4.4. */
export interface SigningSecrets {
  readonly clientSecret?: string | undefined;
  readonly tokenSecret?: string | undefined;
}

/** RFC 5849 sections 3.4.2 to 3.4.4: the value of `oauth_signature`. */
export async function signParts(
  { signatureMethod, clientSecret, signingKey, tools }: OAuth1Provider,
  tokenSecret: string,
  parts: SignedParts,
): Promise<string> {
  if (signatureMethod !== "RSA-SHA1")
    return macParts(tools, signatureMethod, { clientSecret: clientSecret?.reveal(), tokenSecret }, parts);
  const text = encodeText(signatureBaseString(parts));
  return base64(await tools.platform.crypto.signRsaSha1(signingKey as unknown as JsonWebKey, text));
}

/** The same where both sides know the secrets: who checks a signature makes it again (3.2). */
export async function macParts(
  { platform: { crypto } }: Pick<Tools, "platform">,
  signatureMethod: Exclude<SignatureMethod, "RSA-SHA1">,
  { clientSecret = "", tokenSecret = "" }: SigningSecrets,
  parts: SignedParts,
): Promise<string> {
  const secrets = `${percentEncode(clientSecret)}&${percentEncode(tokenSecret)}`;
  if (signatureMethod === "PLAINTEXT") return secrets;
  const hash = signatureMethod === "HMAC-SHA1" ? "SHA-1" : "SHA-256";
  return base64(await crypto.mac(hash, encodeText(secrets), encodeText(signatureBaseString(parts))));
}

/** Whether an RSA-SHA1 signature is that of a request: 3.4.3. */
export async function isSignedByKey(
  { platform }: Pick<Tools, "platform">,
  publicKey: object,
  signature: string,
  parts: SignedParts,
): Promise<boolean> {
  try {
    const bytes = bytesFromBinary(atob(signature));
    return await platform.crypto.verifyRsaSha1(publicKey, bytes, encodeText(signatureBaseString(parts)));
  } catch {
    // Neither base64 nor a signature.
    return false;
  }
}

/** Everything signed over is ASCII by now. */
function encodeText(text: string): Bytes {
  return bytesFromBinary(text);
}

function base64(bytes: Bytes): string {
  return btoa(String.fromCharCode(...bytes));
}
