import { encodeBase64url } from "../jose/index.js";
import type { Platform } from "../platform/index.js";

/** The S256 challenge of a code verifier: RFC 7636 section 4.2. */
export async function codeChallenge(platform: Platform, codeVerifier: string): Promise<string> {
  return encodeBase64url(await platform.crypto.digest("SHA-256", new TextEncoder().encode(codeVerifier)));
}
