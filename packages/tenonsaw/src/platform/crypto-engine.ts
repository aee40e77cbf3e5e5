/** Bytes over an ordinary buffer, as Web Crypto wants them. */
export type Bytes = Uint8Array<ArrayBuffer>;

/** A value, or a promise of it: node:crypto answers at once, Web Crypto later. */
export type Eventually<T> = T | Promise<T>;

/** Hashes, by the names of Web Crypto. */
export type Hash = "SHA-256" | "SHA-384" | "SHA-512";

/** The curves of RFC 7518 section 6.2.1.1. */
export type Curve = "P-256" | "P-384" | "P-521";

type Bits = "256" | "384" | "512";

/** Signature and MAC algorithms: RFC 7518 section 3.1, RFC 8037 section 3.1. */
export type SignatureAlgorithm = "EdDSA" | `${"ES" | "PS" | "RS" | "HS"}${Bits}`;

/** A key made ready for one algorithm and one use; what is inside is the engine's own. */
export interface EngineKey {
  readonly algorithm: SignatureAlgorithm;
  readonly use: "sign" | "verify";
  /** How long its signatures are, where the algorithm alone does not say: as long as an RSA key's modulus. */
  readonly signatureBytes?: number;
  readonly engine: CryptoEngine;
  readonly handle: unknown;
}

/**
 * The cryptography the library needs and nothing more. Signatures are in JOSE form (ECDSA as R || S); MACs go by the
 * same name, their key being of type `oct`.
 * Sealing is AES-256-GCM with a 96-bit IV and a 128-bit tag at the end of the ciphertext.
 */
export interface CryptoEngine {
  readonly name: string;
  /** The digest of a text's UTF-8, in base64url: how nearly everything is hashed here. */
  digestText(hash: Hash, text: string): Eventually<string>;
  importKey(jwk: JsonWebKey, algorithm: SignatureAlgorithm, use: "sign" | "verify"): Eventually<EngineKey>;
  sign(key: EngineKey, data: Bytes): Eventually<Bytes>;
  verify(key: EngineKey, signature: Bytes, data: Bytes): Eventually<boolean>;
  digest(hash: Hash, data: Bytes): Eventually<Bytes>;
  /** HMAC; with SHA-1 only where RFC 5849 asks for it. */
  mac(hash: Hash | "SHA-1", key: Bytes, data: Bytes): Eventually<Bytes>;
  /** RSASSA-PKCS1-v1_5 with SHA-1: RFC 5849 section 3.4.3 and nothing else. */
  signRsaSha1(privateKey: JsonWebKey, data: Bytes): Eventually<Bytes>;
  verifyRsaSha1(publicKey: JsonWebKey, signature: Bytes, data: Bytes): Eventually<boolean>;
  /** AES-GCM with a key of 16 or 32 bytes. */
  encryptGcm(key: Bytes, iv: Bytes, plaintext: Bytes, associated: Bytes): Eventually<Bytes>;
  /** Rejects or throws when the tag does not fit. */
  decryptGcm(key: Bytes, iv: Bytes, ciphertext: Bytes, associated: Bytes): Eventually<Bytes>;
  /** AES-CBC with padding as in PKCS #7; only ever under a MAC. */
  encryptCbc(key: Bytes, iv: Bytes, plaintext: Bytes): Eventually<Bytes>;
  decryptCbc(key: Bytes, iv: Bytes, ciphertext: Bytes): Eventually<Bytes>;
  /** AES key wrap (RFC 3394). Unwrapping rejects or throws when the integrity check fails. */
  wrapKey(wrapping: Bytes, key: Bytes): Eventually<Bytes>;
  unwrapKey(wrapping: Bytes, wrapped: Bytes): Eventually<Bytes>;
  encryptOaep(publicKey: JsonWebKey, hash: "SHA-1" | "SHA-256", data: Bytes): Eventually<Bytes>;
  decryptOaep(privateKey: JsonWebKey, hash: "SHA-1" | "SHA-256", data: Bytes): Eventually<Bytes>;
  /** The shared secret of two keys on one curve: ECDH. */
  agree(privateKey: JsonWebKey, publicKey: JsonWebKey): Eventually<Bytes>;
  /** A new key pair as private JWK. */
  generateKey(curve: Curve): Eventually<JsonWebKey>;
}
