import {
  base64urlFromBytes,
  binaryFromBase64url,
  bytesFromBase64url,
  type Bytes,
} from "../platform/index.js";
import { fail } from "../problem/index.js";

/**
 * Decodes base64url strictly (RFC 7515 section 2): no padding, no white space, no other alphabet, and no unused
 * bits set at the end, so that one value has exactly one spelling.
 *
 * @throws jose.not-base64url
 */
export function decodeBase64url(text: string, what = "text"): Bytes {
  return bytesFromBase64url(text) ?? refuse(text, what);
}

/**
 * The same as a string of one character a byte.
 *
 * @throws jose.not-base64url
 */
export function decodeToBinary(text: string, what: string): string {
  return binaryFromBase64url(text) ?? refuse(text, what);
}

/** Bytes as base64url without padding (RFC 7515 section 2). */
export function encodeBase64url(bytes: Uint8Array): string {
  return base64urlFromBytes(bytes);
}

function refuse(text: string, what: string): never {
  const stranger = text.search(/[^\w-]/);
  const isImpossible = text.length % 4 === 1;
  const mistake = isImpossible
    ? `${text.length} characters, one too many or too few`
    : "unused bits set at the end";
  const received = stranger < 0 ? mistake : `a character outside the alphabet at position ${stranger + 1}`;
  fail("jose.not-base64url", { received: `${what}: ${received}` });
}
