import { joinBytes, type Bytes, type Hash } from "../platform/index.js";
import { fail, isProblem, quoted, type ProblemCode } from "../problem/index.js";
import { check, equalInConstantTime, type Tools } from "../trace/index.js";
import { decodeBase64url, encodeBase64url } from "./base64url.js";
import { parseJsonObject, type JsonObject } from "./json.js";
import { agreeOnKey, manageKey } from "./jwe-keys.js";
import {
  isKeyManagement,
  type ContentEncryption,
  type JweHeader,
  type JweKey,
  type KeyManagement,
} from "./jwe-names.js";

const encoder = new TextEncoder();
const utf8 = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
const longestToken = 256 * 1024;

/** Encrypts in compact form: RFC 7516 section 5.1. */
export async function encryptJwe(
  tools: Tools,
  key: JweKey,
  header: JweHeader,
  plaintext: string,
): Promise<string> {
  const managed = await manageKey(tools, key, header);
  const protectedHeader = encodeBase64url(encoder.encode(JSON.stringify({ ...header, ...managed.header })));
  // 5.1 step 14: the protected header, as it is spelled, is what the ciphertext is bound to.
  const associated = encoder.encode(protectedHeader);
  const content = encoder.encode(plaintext);
  const { iv, ciphertext, tag } = await encryptContent(
    tools,
    header.enc,
    managed.contentKey,
    content,
    associated,
  );
  return [protectedHeader, ...[managed.encryptedKey, iv, ciphertext, tag].map(encodeBase64url)].join(".");
}

/** The algorithms a caller lets in; a header that names another is refused before a key is looked for. */
export interface Admitted {
  readonly alg: readonly KeyManagement[];
  readonly enc: readonly ContentEncryption[];
}

/**
 * Decrypts what is in compact form: RFC 7516 section 5.2. `findKey` sees the header before it is proved.
 *
 * @throws jose.not-compact, jose.not-base64url, jose.not-json, jose.duplicate-member, jose.token-too-large,
 *   jose.algorithm-refused, jose.critical-unknown, jose.decryption-failed for all that only a key could tell
 */
export async function decryptJwe(
  tools: Tools,
  jwe: string,
  admitted: Admitted,
  findKey: (header: JsonObject) => JweKey | Promise<JweKey>,
): Promise<{ readonly header: JweHeader; readonly plaintext: string }> {
  if (jwe.length > longestToken) fail("jose.token-too-large", { received: `${jwe.length} characters` });
  const parts = jwe.split(".");
  const [headerPart = "", keyPart = "", ivPart = "", ciphertextPart = "", tagPart = ""] = parts;
  if (parts.length !== 5)
    fail("jose.not-compact", { received: `${parts.length} parts`, expected: "five parts" });
  const header = readHeader(tools, decodeText(decodeBase64url(headerPart, "header")), admitted);
  const [encryptedKey, iv, ciphertext, tag] = [
    decodeBase64url(keyPart, "encrypted key"),
    decodeBase64url(ivPart, "initialization vector"),
    decodeBase64url(ciphertextPart, "ciphertext"),
    decodeBase64url(tagPart, "authentication tag"),
  ];
  const key = await findKey(header);
  const plaintext = await decryptParts(tools, key, header, { headerPart, encryptedKey, iv, ciphertext, tag });
  return { header, plaintext: decodeText(plaintext) };
}

function readHeader(tools: Tools, text: string, admitted: Admitted): JweHeader {
  const header = parseJsonObject(text, "header");
  const { alg, enc, crit } = header;
  const isAdmitted =
    isKeyManagement(alg) && admitted.alg.includes(alg) && admitted.enc.includes(enc as ContentEncryption);
  check(tools, "jose.algorithm-refused", isAdmitted, () => ({
    received: `${quoted(alg)} with ${quoted(enc)}`,
    expected: `${admitted.alg.join(" or ")} with ${admitted.enc.join(" or ")}`,
  }));
  // RFC 7516 4.1.13; compression (4.1.3) leaks what it compresses, and lets a small token become a huge one.
  check(tools, "jose.critical-unknown", crit === undefined && !("zip" in header), () => ({
    received: crit === undefined ? ("zip" in header ? "`zip`" : "no `crit`") : quoted(JSON.stringify(crit)),
  }));
  return header as JweHeader;
}

interface Parts {
  readonly headerPart: string;
  readonly encryptedKey: Bytes;
  readonly iv: Bytes;
  readonly ciphertext: Bytes;
  readonly tag: Bytes;
}

/** One and the same failure, whatever it was: which step failed is of use to nobody but an attacker (RFC 7516 section 11.5). */
async function decryptParts(tools: Tools, key: JweKey, header: JweHeader, parts: Parts): Promise<Bytes> {
  try {
    const contentKey = await agreeOnKey(tools, key, header, parts.encryptedKey);
    const plaintext = await decryptContent(tools, header.enc, contentKey, parts);
    if (plaintext) return plaintext;
  } catch (error) {
    if (isProblem(error) && !isProblem(error, ...tooTelling)) throw error;
  }
  fail("jose.decryption-failed", { received: `${header.alg} with ${header.enc}` });
}

const tooTelling: readonly ProblemCode[] = ["jose.key-refused", "jose.not-base64url"];

interface Sealed {
  readonly iv: Bytes;
  readonly ciphertext: Bytes;
  readonly tag: Bytes;
}

/** RFC 7518 sections 5.2 and 5.3. */
async function encryptContent(
  { platform }: Tools,
  enc: ContentEncryption,
  key: Bytes,
  plaintext: Bytes,
  associated: Bytes,
): Promise<Sealed> {
  const { crypto } = platform;
  if (enc.endsWith("GCM")) {
    const iv = platform.randomBytes(12);
    const sealed = await crypto.encryptGcm(key, iv, plaintext, associated);
    return { iv, ciphertext: sealed.slice(0, -16), tag: sealed.slice(-16) };
  }
  const iv = platform.randomBytes(16);
  const ciphertext = await crypto.encryptCbc(key.slice(key.length / 2), iv, plaintext);
  return { iv, ciphertext, tag: await contentTag(platform.crypto, key, associated, iv, ciphertext) };
}

/** Undefined where the tag does not fit; nothing is decrypted before that is known. */
async function decryptContent(
  { platform: { crypto } }: Tools,
  enc: ContentEncryption,
  key: Bytes,
  { headerPart, iv, ciphertext, tag }: Parts,
): Promise<Bytes | undefined> {
  const associated = encoder.encode(headerPart);
  if (enc.endsWith("GCM")) {
    // 5.3: 96-bit IV, 128-bit tag, no other lengths.
    if (iv.length !== 12 || tag.length !== 16) return undefined;
    return crypto.decryptGcm(key, iv, joinBytes(ciphertext, tag), associated);
  }
  if (iv.length !== 16) return undefined;
  const expected = await contentTag(crypto, key, associated, iv, ciphertext);
  const isSame = equalInConstantTime(encodeBase64url(expected), encodeBase64url(tag));
  return isSame ? crypto.decryptCbc(key.slice(key.length / 2), iv, ciphertext) : undefined;
}

/** RFC 7518 section 5.2.2.1 steps 4 to 6: the first half of the key, and half of the MAC. */
async function contentTag(
  crypto: Tools["platform"]["crypto"],
  key: Bytes,
  associated: Bytes,
  iv: Bytes,
  ciphertext: Bytes,
): Promise<Bytes> {
  const length = new Uint8Array(8);
  new DataView(length.buffer).setBigUint64(0, BigInt(associated.length * 8));
  const hash: Hash = key.length === 32 ? "SHA-256" : "SHA-512";
  const mac = await crypto.mac(
    hash,
    key.slice(0, key.length / 2),
    joinBytes(associated, iv, ciphertext, length),
  );
  return mac.slice(0, key.length / 2);
}

function decodeText(bytes: Bytes): string {
  try {
    return utf8.decode(bytes);
  } catch (error) {
    fail("jose.not-json", { received: "not UTF-8", cause: error });
  }
}
