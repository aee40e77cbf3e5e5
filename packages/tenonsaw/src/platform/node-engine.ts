import type * as NodeCrypto from "node:crypto";
import type { Bytes, CryptoEngine, EngineKey, SignatureAlgorithm } from "./crypto-engine.js";

interface NodeScheme {
  readonly hash: "sha256" | null;
  readonly options: (crypto: typeof NodeCrypto) => NodeCrypto.SigningOptions;
}

// RFC 7518 section 3.1 and RFC 8037 section 3.1; ECDSA in the fixed-length form of RFC 7518 section 3.4.
const schemes: Readonly<Record<SignatureAlgorithm, NodeScheme>> = {
  RS256: { hash: "sha256", options: () => ({}) },
  PS256: {
    hash: "sha256",
    options: (crypto) => ({ padding: crypto.constants.RSA_PKCS1_PSS_PADDING, saltLength: 32 }),
  },
  ES256: { hash: "sha256", options: () => ({ dsaEncoding: "ieee-p1363" }) },
  EdDSA: { hash: null, options: () => ({}) },
};

const tagLength = 16;

/** The node:crypto form. `crypto` is the module itself: it is handed in, so that nothing here imports Node. */
export function createNodeEngine(crypto: typeof NodeCrypto): CryptoEngine {
  const engine: CryptoEngine = {
    name: "node",
    digestText: (hash, text) => crypto.hash(hash === "SHA-256" ? "sha256" : "sha512", text, "base64url"),
    importKey(jwk, algorithm, use): EngineKey {
      const input = { key: jwk as NodeCrypto.JsonWebKey, format: "jwk" } as const;
      const key = use === "sign" ? crypto.createPrivateKey(input) : crypto.createPublicKey(input);
      return { algorithm, use, engine, handle: { key, ...schemes[algorithm].options(crypto) } };
    },
    sign: (key, data) =>
      concatenate(
        crypto.sign(schemes[key.algorithm].hash, data, key.handle as NodeCrypto.SignKeyObjectInput),
      ),
    verify: (key, signature, data) =>
      crypto.verify(
        schemes[key.algorithm].hash,
        data,
        key.handle as NodeCrypto.VerifyKeyObjectInput,
        signature,
      ),
    encryptGcm(key, iv, plaintext, associated) {
      const cipher = crypto.createCipheriv("aes-256-gcm", key, iv).setAAD(associated);
      return concatenate(cipher.update(plaintext), cipher.final(), cipher.getAuthTag());
    },
    decryptGcm(key, iv, ciphertext, associated) {
      const end = ciphertext.length - tagLength;
      const decipher = crypto
        .createDecipheriv("aes-256-gcm", key, iv, { authTagLength: tagLength })
        .setAAD(associated)
        .setAuthTag(ciphertext.subarray(end));
      return concatenate(decipher.update(ciphertext.subarray(0, end)), decipher.final());
    },
  };
  return engine;
}

/** The parts in a buffer of its own: Node's Buffers may be views into a shared pool. */
function concatenate(...parts: readonly Uint8Array[]): Bytes {
  const whole = new Uint8Array(parts.reduce((length, part) => length + part.length, 0));
  let offset = 0;
  for (const part of parts) {
    whole.set(part, offset);
    offset += part.length;
  }
  return whole;
}
