import { base64urlFromBytes } from "./bytes.js";
import type { Bytes, CryptoEngine, EngineKey, SignatureAlgorithm } from "./crypto-engine.js";

interface WebScheme {
  readonly importAs: RsaHashedImportParams | EcKeyImportParams | HmacImportParams | Algorithm;
  readonly operateAs: RsaPssParams | EcdsaParams | Algorithm;
}

const curves = { "256": "P-256", "384": "P-384", "512": "P-521" } as const;

/** RFC 7518 section 3.1, RFC 8037 section 3.1. */
function schemeOf(algorithm: SignatureAlgorithm): WebScheme {
  if (algorithm === "EdDSA") return { importAs: { name: "Ed25519" }, operateAs: { name: "Ed25519" } };
  const bits = algorithm.slice(2) as keyof typeof curves;
  const hash = `SHA-${bits}`;
  if (algorithm.startsWith("HS")) return { importAs: { name: "HMAC", hash }, operateAs: { name: "HMAC" } };
  if (algorithm.startsWith("ES")) {
    return { importAs: { name: "ECDSA", namedCurve: curves[bits] }, operateAs: { name: "ECDSA", hash } };
  }
  if (algorithm.startsWith("PS")) {
    // 3.5: a salt as long as the hash.
    return {
      importAs: { name: "RSA-PSS", hash },
      operateAs: { name: "RSA-PSS", saltLength: Number(bits) / 8 },
    };
  }
  return { importAs: { name: "RSASSA-PKCS1-v1_5", hash }, operateAs: { name: "RSASSA-PKCS1-v1_5" } };
}

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
      const { kty, crv, x, y, n, e, d, p, q, dp, dq, qi, k } = jwk;
      const bare = Object.fromEntries(
        Object.entries({ kty, crv, x, y, n, e, d, p, q, dp, dq, qi, k }).filter(
          ([, part]) => part !== undefined,
        ),
      );
      const handle = await subtle.importKey("jwk", bare, schemeOf(algorithm).importAs, false, [use]);
      return { algorithm, use, engine, handle };
    },
    sign: async (key, data) =>
      new Uint8Array(await subtle.sign(schemeOf(key.algorithm).operateAs, key.handle as CryptoKey, data)),
    verify: (key, signature, data) =>
      subtle.verify(schemeOf(key.algorithm).operateAs, key.handle as CryptoKey, signature, data),
    encryptGcm: async (key, iv, plaintext, associated) =>
      new Uint8Array(await subtle.encrypt(gcm(iv, associated), await aesKey(key, "encrypt"), plaintext)),
    decryptGcm: async (key, iv, ciphertext, associated) =>
      new Uint8Array(await subtle.decrypt(gcm(iv, associated), await aesKey(key, "decrypt"), ciphertext)),
  };
  return engine;
}
