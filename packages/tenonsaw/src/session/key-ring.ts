import { decodeBase64url, decryptJwe, encodeBase64url, encryptJwe, thumbprint } from "../jose/index.js";
import { binaryFromBase64url, conceal, type Bytes } from "../platform/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import type { Tools } from "../trace/index.js";

/** The sealing keys: the current one seals, all of them open. */
export interface KeyRing {
  readonly currentKeyId: string;
  readonly keys: ReadonlyMap<string, Bytes>;
}

/**
 * Reads the ring from text: keys of 32 bytes in base64url, separated by commas, the current one first. A key's ID
 * is its thumbprint (RFC 7638), so that it needs no name.
 *
 * @throws session.keys-refused
 */
export async function readKeyRing(tools: Tools, text: string): Promise<KeyRing> {
  const keys = conceal(new Map<string, Bytes>());
  for (const [index, part] of text.split(",").entries()) {
    const value = part.trim();
    const key = decodeKey(value, index + 1);
    keys.set(await thumbprint(tools, { kty: "oct", k: encodeBase64url(key) }), key);
  }
  const [currentKeyId = ""] = keys.keys();
  return { currentKeyId, keys };
}

/**
 * Seals a value for one place: compact JWE (`dir`, A256GCM). The place stands in the protected header, which the
 * encryption authenticates, so that a value copied to another record does not open there.
 */
export function seal(tools: Tools, ring: KeyRing, place: string, value: string): Promise<string> {
  const key = ring.keys.get(ring.currentKeyId);
  if (!key) fail("session.keys-refused", { received: "an empty key ring" });
  return encryptJwe(tools, key, { alg: "dir", enc: "A256GCM", kid: ring.currentKeyId, place }, value);
}

/** Whether a value was sealed with a key that is retired; it opens as long as that key is in the ring. */
export function isSealedWithRetired(ring: KeyRing, sealed: string): boolean {
  if (ring.keys.size < 2) return false;
  const header = binaryFromBase64url(sealed.slice(0, sealed.indexOf("."))) ?? "";
  return !header.includes(ring.currentKeyId);
}

const sealing = { alg: ["dir"], enc: ["A256GCM"] } as const;

/** @throws session.seal-broken, session.seal-key-unknown */
export async function unseal(tools: Tools, ring: KeyRing, place: string, sealed: string): Promise<string> {
  try {
    const { header, plaintext } = await decryptJwe(
      { platform: tools.platform },
      sealed,
      sealing,
      ({ kid }) => {
        const key = typeof kid === "string" ? ring.keys.get(kid) : undefined;
        return key ?? fail("session.seal-key-unknown", { received: `key ID ${quoted(kid ?? "absent")}` });
      },
    );
    if (header["place"] !== place) {
      fail("session.seal-broken", { received: `a value sealed for ${quoted(header["place"] ?? "nothing")}` });
    }
    return plaintext;
  } catch (error) {
    // What is malformed in a sealed value is nobody's business; that it is broken is.
    if (isProblem(error) && error.problem.station === "jose") {
      fail("session.seal-broken", { received: "a malformed value", cause: error });
    }
    throw error;
  }
}

function decodeKey(value: string, position: number): Bytes {
  try {
    const key = decodeBase64url(value, `key ${position}`);
    if (key.length === 32) return key;
    fail("session.keys-refused", {
      received: `key ${position}: ${key.length} bytes`,
      because: formOf(value),
    });
  } catch (error) {
    if (!isProblem(error, "jose.not-base64url")) throw error;
    const { received = "" } = error.problem;
    fail("session.keys-refused", { received, because: formOf(value), cause: error });
  }
}

/** In which other form a key stands there, as far as that can be told. */
function formOf(value: string) {
  if (/^(["']).*\1$/s.test(value)) return "quotes";
  if (/^\s*[\w-]{43}\s+[\w-]{43}/.test(value)) return "separated";
  if (/^[0-9a-f]{64}$/i.test(value)) return "hex";
  return /^[A-Za-z0-9+/]{43}=?$/.test(value) ? "base64" : undefined;
}

/**
 * At an origin that others reach no key is one that somebody has typed, or left as an example has it.
 *
 * @throws session.keys-refused
 */
export function requireRandomKeys({ keys }: KeyRing): void {
  for (const [index, key] of [...keys.values()].entries()) {
    const different = new Set(key).size;
    if (different < fewestDifferent)
      fail("session.keys-refused", {
        received: `key ${index + 1}: ${different} different bytes`,
        because: "guessable",
      });
  }
}

/** Of 32 bytes at random, fewer than so many different ones are never seen. */
const fewestDifferent = 12;
