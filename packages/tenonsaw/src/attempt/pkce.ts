import type { Platform } from "../platform/index.js";

/** The S256 challenge of a code verifier: RFC 7636 section 4.2. */
export async function codeChallenge(platform: Platform, codeVerifier: string): Promise<string> {
  return await platform.crypto.digestText("SHA-256", codeVerifier);
}
