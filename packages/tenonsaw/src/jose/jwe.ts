import type { Bytes } from "../platform/index.js";
import { fail } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import { decodeBase64url, encodeBase64url } from "./base64url.js";
import { parseJsonObject, type JsonObject } from "./json.js";

const encoder = new TextEncoder();

export interface JweHeader extends JsonObject {
  readonly kid: string;
}

/** Encrypts in compact form with `dir` and A256GCM: RFC 7516 section 5.1, RFC 7518 sections 4.5 and 5.3. */
export async function encryptJwe(
  tools: Tools,
  key: Bytes,
  header: JweHeader,
  plaintext: string,
): Promise<string> {
  const protectedHeader = encodeBase64url(
    encoder.encode(JSON.stringify({ alg: "dir", enc: "A256GCM", ...header })),
  );
  const iv = tools.platform.randomBytes(12);
  // 5.1 step 14: the protected header, as it is spelled, is what the ciphertext is bound to.
  const sealed = await tools.platform.crypto.encryptGcm(
    key,
    iv,
    encoder.encode(plaintext),
    encoder.encode(protectedHeader),
  );
  const [ciphertext, tag] = [sealed.subarray(0, -16), sealed.subarray(-16)];
  return [protectedHeader, "", encodeBase64url(iv), encodeBase64url(ciphertext), encodeBase64url(tag)].join(
    ".",
  );
}

/**
 * Decrypts what {@link encryptJwe} made (RFC 7516 section 5.2). `findKey` sees the header before it is proved and
 * may refuse it.
 *
 * @throws session.seal-broken when anything about it is not as it was made
 */
export async function decryptJwe(
  tools: Tools,
  jwe: string,
  findKey: (header: JsonObject) => Bytes,
): Promise<{ readonly header: JsonObject; readonly plaintext: string }> {
  const [headerPart, keyPart, ivPart, ciphertextPart, tagPart, ...rest] = jwe.split(".");
  if (
    headerPart === undefined ||
    ivPart === undefined ||
    ciphertextPart === undefined ||
    tagPart === undefined
  ) {
    fail("session.seal-broken", { received: "fewer than five parts" });
  }
  if (keyPart !== "" || rest.length > 0)
    fail("session.seal-broken", { received: "parts that were not made here" });
  const header = parseJsonObject(new TextDecoder().decode(decodeBase64url(headerPart, "header")), "header");
  if (header["alg"] !== "dir" || header["enc"] !== "A256GCM" || header["zip"] !== undefined) {
    fail("session.seal-broken", { received: "another form of encryption" });
  }
  const [iv, ciphertext, tag] = [
    decodeBase64url(ivPart),
    decodeBase64url(ciphertextPart),
    decodeBase64url(tagPart),
  ];
  // RFC 7518 5.3: 96-bit IV, 128-bit tag, no other lengths.
  if (iv.length !== 12 || tag.length !== 16)
    fail("session.seal-broken", { received: "IV or tag of another length" });
  const sealed = new Uint8Array(ciphertext.length + tag.length);
  sealed.set(ciphertext);
  sealed.set(tag, ciphertext.length);
  const key = findKey(header);
  try {
    const plaintext = await tools.platform.crypto.decryptGcm(key, iv, sealed, encoder.encode(headerPart));
    return { header, plaintext: new TextDecoder().decode(plaintext) };
  } catch (error) {
    fail("session.seal-broken", { received: "a value that was altered", cause: error });
  }
}
