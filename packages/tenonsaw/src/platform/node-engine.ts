import type * as NodeCrypto from "node:crypto";
import type { Bytes, CryptoEngine, EngineKey, SignatureAlgorithm } from "./crypto-engine.js";

interface NodeScheme {
  readonly hash: "sha256" | "sha384" | "sha512" | null;
  readonly options?: (crypto: typeof NodeCrypto) => NodeCrypto.SigningOptions;
}

const hashes = { "256": "sha256", "384": "sha384", "512": "sha512" } as const;

/** RFC 7518 section 3.1, RFC 8037 section 3.1; ECDSA in the fixed-length form of RFC 7518 section 3.4. */
function schemeOf(algorithm: SignatureAlgorithm): NodeScheme {
  if (algorithm === "EdDSA") return { hash: null };
  const bits = algorithm.slice(2) as keyof typeof hashes;
  const hash = hashes[bits];
  if (algorithm.startsWith("ES")) return { hash, options: () => ({ dsaEncoding: "ieee-p1363" }) };
  if (algorithm.startsWith("PS")) {
    // 3.5: a salt as long as the hash.
    return {
      hash,
      options: (crypto) => ({
        padding: crypto.constants.RSA_PKCS1_PSS_PADDING,
        saltLength: Number(bits) / 8,
      }),
    };
  }
  return { hash };
}

interface NodeHandle extends NodeCrypto.SignKeyObjectInput {
  readonly hash: NodeScheme["hash"];
}

const tagLength = 16;

/** The node:crypto form. `crypto` is the module itself: it is handed in, so that nothing here imports Node. */
export function createNodeEngine(crypto: typeof NodeCrypto): CryptoEngine {
  const importObject = (jwk: JsonWebKey, use: "sign" | "verify") => {
    if (jwk.kty === "oct") return crypto.createSecretKey(jwk.k ?? "", "base64url");
    const input = { key: jwk as NodeCrypto.JsonWebKey, format: "jwk" } as const;
    return use === "sign" ? crypto.createPrivateKey(input) : crypto.createPublicKey(input);
  };
  const mac = (key: NodeCrypto.KeyObject, hash: NodeScheme["hash"], data: Bytes) =>
    concatenate(
      crypto
        .createHmac(hash ?? "", key)
        .update(data)
        .digest(),
    );

  const engine: CryptoEngine = {
    name: "node",
    digestText: (hash, text) => crypto.hash(hash.replace("-", "").toLowerCase(), text, "base64url"),
    importKey(jwk, algorithm, use): EngineKey {
      const { hash, options } = schemeOf(algorithm);
      return { algorithm, use, engine, handle: { key: importObject(jwk, use), hash, ...options?.(crypto) } };
    },
    sign(key, data) {
      const { hash, ...handle } = key.handle as NodeHandle;
      if (key.algorithm.startsWith("HS")) return mac(handle.key, hash, data);
      return concatenate(crypto.sign(hash, data, handle));
    },
    verify(key, signature, data) {
      const handle = key.handle as NodeHandle;
      if (!key.algorithm.startsWith("HS")) return crypto.verify(handle.hash, data, handle, signature);
      const expected = mac(handle.key, handle.hash, data);
      return expected.length === signature.length && crypto.timingSafeEqual(expected, signature);
    },
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
