import { base64urlFromBytes } from "./bytes.js";
import type { Bytes, CryptoEngine, EngineKey, SignatureAlgorithm } from "./crypto-engine.js";

interface WebScheme {
  readonly importAs: RsaHashedImportParams | EcKeyImportParams | Algorithm;
  readonly operateAs: RsaPssParams | EcdsaParams | Algorithm;
}

// RFC 7518 section 3.1 and RFC 8037 section 3.1. PS256 uses a salt as long as the hash (RFC 7518 section 3.5).
const schemes: Readonly<Record<SignatureAlgorithm, WebScheme>> = {
  RS256: {
    importAs: { name: "RSASSA-PKCS1-v1_5", hash: "SHA-256" },
    operateAs: { name: "RSASSA-PKCS1-v1_5" },
  },
  PS256: {
    importAs: { name: "RSA-PSS", hash: "SHA-256" },
    operateAs: { name: "RSA-PSS", saltLength: 32 },
  },
  ES256: {
    importAs: { name: "ECDSA", namedCurve: "P-256" },
    operateAs: { name: "ECDSA", hash: "SHA-256" },
  },
  EdDSA: { importAs: { name: "Ed25519" }, operateAs: { name: "Ed25519" } },
};

/** The Web Crypto form: browsers, worker runtimes, and Node where measurement favours it. */
export function createWebEngine(subtle: SubtleCrypto): CryptoEngine {
  const gcm = (iv: Bytes, associated: Bytes): AesGcmParams => ({
    name: "AES-GCM",
    iv,
    additionalData: associated,
    tagLength: 128,
  });
  const aesKey = (key: Bytes, use: "encrypt" | "decrypt") =>
    subtle.importKey("raw", key, "AES-GCM", false, [use]);

  const engine: CryptoEngine = {
    name: "web",
    async digestText(hash, text) {
      const digest = new Uint8Array(await subtle.digest(hash, new TextEncoder().encode(text)));
      return base64urlFromBytes(digest);
    },
    async importKey(jwk, algorithm, use): Promise<EngineKey> {
      // Members that could contradict the use chosen here (use, key_ops, alg, ext) were judged before.
      const { kty, crv, x, y, n, e, d, p, q, dp, dq, qi } = jwk;
      const bare = Object.fromEntries(
        Object.entries({ kty, crv, x, y, n, e, d, p, q, dp, dq, qi }).filter(
          ([, part]) => part !== undefined,
        ),
      );
      const handle = await subtle.importKey("jwk", bare, schemes[algorithm].importAs, false, [use]);
      return { algorithm, use, engine, handle };
    },
    sign: async (key, data) =>
      new Uint8Array(await subtle.sign(schemes[key.algorithm].operateAs, key.handle as CryptoKey, data)),
    verify: (key, signature, data) =>
      subtle.verify(schemes[key.algorithm].operateAs, key.handle as CryptoKey, signature, data),
    encryptGcm: async (key, iv, plaintext, associated) =>
      new Uint8Array(await subtle.encrypt(gcm(iv, associated), await aesKey(key, "encrypt"), plaintext)),
    decryptGcm: async (key, iv, ciphertext, associated) =>
      new Uint8Array(await subtle.decrypt(gcm(iv, associated), await aesKey(key, "decrypt"), ciphertext)),
  };
  return engine;
}
