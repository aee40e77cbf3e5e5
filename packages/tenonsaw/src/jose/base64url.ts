import type { Bytes } from "../platform/index.js";
import { fail } from "../problem/index.js";

const alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
const values = new Int8Array(128).fill(-1);
for (let index = 0; index < alphabet.length; index += 1) values[alphabet.charCodeAt(index)] = index;

/**
 * Decodes base64url strictly (RFC 7515 section 2): no padding, no white space, no other alphabet, and no unused
 * bits set at the end, so that one value has exactly one spelling.
 *
 * @throws jose.not-base64url
 */
export function decodeBase64url(text: string, what = "text"): Bytes {
  const tail = text.length % 4;
  if (tail === 1) refuse(what, `${text.length} characters`);
  const bytes = new Uint8Array((text.length * 3) >> 2);
  let offset = 0;
  let buffer = 0;
  let bits = 0;
  for (let index = 0; index < text.length; index += 1) {
    const code = text.charCodeAt(index);
    const value = code < 128 ? (values[code] ?? -1) : -1;
    if (value < 0) refuse(what, `a character outside the alphabet at position ${index + 1}`);
    buffer = ((buffer << 6) | value) & 0xffff;
    bits += 6;
    if (bits >= 8) {
      bits -= 8;
      bytes[offset] = (buffer >> bits) & 0xff;
      offset += 1;
    }
  }
  if ((buffer & ((1 << bits) - 1)) !== 0) refuse(what, "unused bits set at the end");
  return bytes;
}

export function encodeBase64url(bytes: Uint8Array): string {
  let text = "";
  for (let index = 0; index < bytes.length; index += 3) {
    const [a, b, c] = [bytes[index] ?? 0, bytes[index + 1], bytes[index + 2]];
    text += letter(a >> 2) + letter(((a & 3) << 4) | ((b ?? 0) >> 4));
    if (b !== undefined) text += letter(((b & 15) << 2) | ((c ?? 0) >> 6));
    if (c !== undefined) text += letter(c & 63);
  }
  return text;
}

function letter(value: number): string {
  return alphabet.charAt(value);
}

function refuse(what: string, received: string): never {
  fail("jose.not-base64url", { received: `${what}: ${received}` });
}
