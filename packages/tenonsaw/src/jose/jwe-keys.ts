import { joinBytes, type Bytes, type Curve } from "../platform/index.js";
import { fail } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import { decodeBase64url } from "./base64url.js";
import type { JsonObject } from "./json.js";
import { modulusBits, publicPart, type Jwk } from "./jwk.js";
import { contentKeyBytes, type JweHeader, type JweKey } from "./jwe-names.js";

const curves: readonly unknown[] = ["P-256", "P-384", "P-521"] satisfies Curve[];

/**
 * A new content key, and how it is told to whoever can decrypt: RFC 7516 section 5.1 steps 1 to 6.
 *
 * @throws jose.key-refused
 */
export async function manageKey(
  tools: Tools,
  key: JweKey,
  { alg, enc }: JweHeader,
): Promise<{ readonly contentKey: Bytes; readonly encryptedKey: Bytes; readonly header: JsonObject }> {
  const { crypto, randomBytes } = tools.platform;
  const none = new Uint8Array(0);
  if (alg === "dir")
    return { contentKey: symmetric(key, contentKeyBytes[enc]), encryptedKey: none, header: {} };
  const contentKey = randomBytes(contentKeyBytes[enc]);
  if (alg === "A128KW" || alg === "A256KW") {
    const encryptedKey = await crypto.wrapKey(symmetric(key, wrapBytes(alg)), contentKey);
    return { contentKey, encryptedKey, header: {} };
  }
  if (alg === "RSA-OAEP" || alg === "RSA-OAEP-256") {
    const encryptedKey = await crypto.encryptOaep(asWeb(publicPart(rsa(key))), oaepHash(alg), contentKey);
    return { contentKey, encryptedKey, header: {} };
  }
  const recipient = curve(key);
  const ephemeral = await crypto.generateKey(recipient.crv as Curve);
  const header = { epk: publicPart(bare(ephemeral as unknown as Jwk)) };
  const agreed = await crypto.agree(ephemeral, asWeb(publicPart(recipient)));
  const derived = await derive(tools, agreed, { alg, enc, ...header });
  if (alg === "ECDH-ES") return { contentKey: derived, encryptedKey: none, header };
  return { contentKey, encryptedKey: await crypto.wrapKey(derived, contentKey), header };
}

/**
 * The content key of something received: RFC 7516 section 5.2 steps 7 to 13. Throws, or returns a key of the wrong
 * length, where the key does not fit; the caller lets none of that be told apart.
 */
export async function agreeOnKey(
  tools: Tools,
  key: JweKey,
  header: JweHeader,
  encryptedKey: Bytes,
): Promise<Bytes> {
  const { alg, enc } = header;
  const { crypto } = tools.platform;
  const isDirect = alg === "dir" || alg === "ECDH-ES";
  // 5.2 step 10: with these there is no encrypted key, not even a wrong one.
  if (isDirect !== (encryptedKey.length === 0)) return refuse("an encrypted key where none belongs, or none");
  const contentKey = await recover();
  return contentKey.length === contentKeyBytes[enc] ? contentKey : refuse("a content key of another length");

  async function recover(): Promise<Bytes> {
    if (alg === "dir") return symmetric(key, contentKeyBytes[enc]);
    if (alg === "A128KW" || alg === "A256KW")
      return crypto.unwrapKey(symmetric(key, wrapBytes(alg)), encryptedKey);
    if (alg === "RSA-OAEP" || alg === "RSA-OAEP-256") {
      return crypto.decryptOaep(asWeb(rsa(key)), oaepHash(alg), encryptedKey);
    }
    const own = curve(key);
    const agreed = await crypto.agree(asWeb(own), readEphemeral(header, own));
    const derived = await derive(tools, agreed, header);
    return alg === "ECDH-ES" ? derived : crypto.unwrapKey(derived, encryptedKey);
  }
}

/** RFC 7518 section 4.6.1.1: a public key on the same curve. The engines refuse points that are not on it. */
function readEphemeral({ epk }: JweHeader, own: Jwk): JsonWebKey {
  const key = epk as Partial<Jwk> | undefined;
  if (typeof key !== "object" || (key as unknown) === null || key.kty !== "EC" || key.crv !== own.crv)
    return refuse("no usable epk");
  const { kty, crv, x, y } = key;
  return { kty, crv: crv ?? "", x: textOf(x), y: textOf(y) };
}

/** Concat KDF with SHA-256: RFC 7518 section 4.6.2. */
async function derive(
  tools: Tools,
  agreed: Bytes,
  header: JsonObject & { alg: string; enc: string },
): Promise<Bytes> {
  const isDirect = header.alg === "ECDH-ES";
  const name = isDirect ? header.enc : header.alg;
  const bytes = isDirect
    ? contentKeyBytes[header.enc as keyof typeof contentKeyBytes]
    : wrapBytes(header.alg.slice("ECDH-ES+".length));
  const party = (value: unknown) =>
    typeof value === "string" ? decodeBase64url(value, "party info") : new Uint8Array(0);
  const withLength = (data: Bytes) => joinBytes(uint32(data.length), data);
  const info = joinBytes(
    withLength(new TextEncoder().encode(name)),
    withLength(party(header["apu"])),
    withLength(party(header["apv"])),
    uint32(bytes * 8),
  );
  const rounds = Array.from({ length: Math.ceil(bytes / 32) }, (_, index) => index + 1);
  const blocks = rounds.map(async (round) =>
    tools.platform.crypto.digest("SHA-256", joinBytes(uint32(round), agreed, info)),
  );
  return joinBytes(...(await Promise.all(blocks))).slice(0, bytes);
}

function uint32(value: number): Bytes {
  const bytes = new Uint8Array(4);
  new DataView(bytes.buffer).setUint32(0, value);
  return bytes;
}

function wrapBytes(alg: string): number {
  return alg === "A128KW" ? 16 : 32;
}

function oaepHash(alg: "RSA-OAEP" | "RSA-OAEP-256"): "SHA-1" | "SHA-256" {
  return alg === "RSA-OAEP" ? "SHA-1" : "SHA-256";
}

function symmetric(key: JweKey, length: number): Bytes {
  const bytes =
    key instanceof Uint8Array
      ? key
      : key.kty === "oct" && typeof key["k"] === "string"
        ? decodeBase64url(key["k"], "k")
        : refuse("a key that is not symmetric");
  return bytes.length === length
    ? bytes
    : refuse(`a key of ${bytes.length} bytes where ${length} are needed`);
}

function textOf(member: unknown): string {
  return typeof member === "string" ? member : refuse("a key whose members are no text");
}

/** RFC 7518 section 4.3: 2048 bits or more. */
function rsa(key: JweKey): Jwk {
  if (key instanceof Uint8Array || key.kty !== "RSA") return refuse("a key that is not RSA");
  const modulus = decodeBase64url(textOf(key.n), "n");
  return modulusBits(modulus) >= 2048 ? bare(key) : refuse("an RSA key of less than 2048 bits");
}

function curve(key: JweKey): Jwk {
  if (key instanceof Uint8Array || key.kty !== "EC" || !curves.includes(key.crv))
    return refuse("a key that is on none of the curves");
  return bare(key);
}

function asWeb(key: Jwk): JsonWebKey {
  return key as unknown as JsonWebKey;
}

/** Without what it says of its own use, which was judged where it was chosen. */
function bare({ kid: _kid, use: _use, alg: _alg, key_ops: _ops, ext: _ext, ...rest }: Jwk): Jwk {
  return rest;
}

function refuse(received: string): never {
  fail("jose.key-refused", { received });
}
