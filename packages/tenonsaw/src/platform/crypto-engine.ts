/** Bytes over an ordinary buffer, as Web Crypto wants them. */
export type Bytes = Uint8Array<ArrayBuffer>;

/** A value, or a promise of it: node:crypto answers at once, Web Crypto later. */
export type Eventually<T> = T | Promise<T>;

/** Hashes: SHA-256 everywhere, SHA-512 inside Ed25519. */
export type Hash = "SHA-256" | "SHA-512";

/** Signature algorithms this version speaks (RFC 7518 section 3, RFC 8037 section 3.1). */
export type SignatureAlgorithm = "RS256" | "PS256" | "ES256" | "EdDSA";

/** A key made ready for one algorithm and one use; what is inside is the engine's own. */
export interface EngineKey {
  readonly algorithm: SignatureAlgorithm;
  readonly use: "sign" | "verify";
  readonly engine: CryptoEngine;
  readonly handle: unknown;
}

/**
 * The cryptography the library needs and nothing more. Signatures are in JOSE form (ECDSA as R || S).
 * Sealing is AES-256-GCM with a 96-bit IV and a 128-bit tag at the end of the ciphertext.
 */
export interface CryptoEngine {
  readonly name: string;
  /** The digest of a text's UTF-8, in base64url: how nearly everything is hashed here. */
  digestText(hash: Hash, text: string): Eventually<string>;
  importKey(jwk: JsonWebKey, algorithm: SignatureAlgorithm, use: "sign" | "verify"): Eventually<EngineKey>;
  sign(key: EngineKey, data: Bytes): Eventually<Bytes>;
  verify(key: EngineKey, signature: Bytes, data: Bytes): Eventually<boolean>;
  encryptGcm(key: Bytes, iv: Bytes, plaintext: Bytes, associated: Bytes): Eventually<Bytes>;
  /** Rejects or throws when the tag does not fit. */
  decryptGcm(key: Bytes, iv: Bytes, ciphertext: Bytes, associated: Bytes): Eventually<Bytes>;
}
