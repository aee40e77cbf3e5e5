import type { Bytes } from "./crypto-engine.js";

/** What is used of Node's Buffer, which does in native code what elsewhere takes a loop. */
interface NativeBytes extends Uint8Array<ArrayBuffer> {
  toString(encoding?: "base64url" | "latin1"): string;
}
interface NativeFactory {
  from(text: string, encoding: "base64url" | "latin1"): NativeBytes;
  from(buffer: ArrayBufferLike, offset: number, length: number): NativeBytes;
}

const native = (globalThis as { Buffer?: NativeFactory }).Buffer;

/**
 * Bytes from base64url, or undefined where the text is not exactly what its bytes are spelled as: each value has one
 * spelling, without padding, white space, another alphabet or unused bits set at the end.
 */
export function bytesFromBase64url(text: string): Bytes | undefined {
  const bytes = decode(text);
  return bytes && new Uint8Array(bytes.buffer, bytes.byteOffset, bytes.length);
}

/** The same as a string of one character a byte. */
export function binaryFromBase64url(text: string): string | undefined {
  const bytes = decode(text);
  return bytes && (native ? bytes.toString("latin1") : binaryFromBytes(bytes));
}

/** Bytes as base64url without padding (RFC 4648 section 5). */
export function base64urlFromBytes(bytes: Uint8Array): string {
  if (native) return native.from(bytes.buffer, bytes.byteOffset, bytes.length).toString("base64url");
  return btoa(binaryFromBytes(bytes)).replaceAll("+", "-").replaceAll("/", "_").replace(/=+$/, "");
}

/** Bytes from a string of characters below 256, one byte each. */
export function bytesFromBinary(binary: string): Bytes {
  if (!native) return Uint8Array.from(binary, (character) => character.charCodeAt(0));
  const bytes = native.from(binary, "latin1");
  return new Uint8Array(bytes.buffer, bytes.byteOffset, bytes.length);
}

/** By how many characters are left over behind the last four, those that a text can end in with no unused bit set. */
const lastCharacters = [undefined, "", "AQgw", "AEIMQUYcgkosw048"] as const;

function decode(text: string): NativeBytes | Bytes | undefined {
  const ends = lastCharacters[text.length % 4];
  if (/[^\w-]/.test(text) || ends?.includes(text.at(-1) ?? "") === false) return undefined;
  if (native) return native.from(text, "base64url");
  return bytesFromBinary(atob(text.replaceAll("-", "+").replaceAll("_", "/")));
}

function binaryFromBytes(bytes: Uint8Array): string {
  let binary = "";
  for (const byte of bytes) binary += String.fromCharCode(byte);
  return binary;
}

/** The parts in a buffer of its own: Node's Buffers may be views into a shared pool. */
export function joinBytes(...parts: readonly Uint8Array[]): Bytes {
  const whole = new Uint8Array(parts.reduce((length, part) => length + part.length, 0));
  let offset = 0;
  for (const part of parts) {
    whole.set(part, offset);
    offset += part.length;
  }
  return whole;
}
