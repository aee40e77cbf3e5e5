import type { Bytes } from "../platform/index.js";
import type { JsonObject } from "./json.js";
import type { Jwk } from "./jwk.js";

/** How long a content encryption's key is, in bytes: RFC 7518 sections 5.2.3, 5.2.5 and 5.3. */
export const contentKeyBytes = {
  A128GCM: 16,
  A256GCM: 32,
  "A128CBC-HS256": 32,
  "A256CBC-HS512": 64,
} as const;

/** RFC 7518 section 4.1. RSA1_5 is not among them: it has been broken too often (RFC 8725 section 3.2). */
export const keyManagements = [
  "RSA-OAEP-256",
  "RSA-OAEP",
  "ECDH-ES",
  "ECDH-ES+A128KW",
  "ECDH-ES+A256KW",
  "A128KW",
  "A256KW",
  "dir",
] as const;
/** A key management algorithm (RFC 7518 section 4.1). */
export type KeyManagement = (typeof keyManagements)[number];

/** RFC 7518 section 5.1. */
export type ContentEncryption = keyof typeof contentKeyBytes;

/** The protected header of an encrypted token (RFC 7516 section 4). */
export interface JweHeader extends JsonObject {
  readonly alg: KeyManagement;
  readonly enc: ContentEncryption;
}

/** A key to encrypt or decrypt by: a JWK, or the bytes of a symmetric one. */
export type JweKey = Jwk | Bytes;

/** Whether this is a key management algorithm that is supported (RFC 7518 section 4.1). */
export function isKeyManagement(name: unknown): name is KeyManagement {
  return keyManagements.some((each) => each === name);
}

/** Content encryption algorithms (RFC 7518 section 5.1). */
export const contentEncryptions = Object.keys(contentKeyBytes) as readonly ContentEncryption[];
