import type * as NodeCrypto from "node:crypto";
import { base64urlFromBytes, joinBytes } from "./bytes.js";
import type { Bytes, CryptoEngine, EngineKey, SignatureAlgorithm } from "./crypto-engine.js";

interface NodeScheme {
  readonly hash: "sha256" | "sha384" | "sha512" | null;
  readonly options?: (crypto: typeof NodeCrypto) => NodeCrypto.SigningOptions;
}

const hashes = { "SHA-256": "sha256", "SHA-384": "sha384", "SHA-512": "sha512" } as const;

/** RFC 7518 section 3.1, RFC 8037 section 3.1; ECDSA in the fixed-length form of RFC 7518 section 3.4. */
function schemeOf(algorithm: SignatureAlgorithm): NodeScheme {
  if (algorithm === "EdDSA") return { hash: null };
  const bits = algorithm.slice(2) as "256" | "384" | "512";
  const hash = hashes[`SHA-${bits}`];
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

/** As OpenSSL calls them, and the octets of a coordinate: RFC 7518 section 6.2.1.2. */
const curves = {
  "P-256": ["prime256v1", 32],
  "P-384": ["secp384r1", 48],
  "P-521": ["secp521r1", 66],
} as const;

const tagLength = 16;

/** RFC 3394 section 2.2.3.1. */
const wrapIv = new Uint8Array(8).fill(0xa6);

/** The node:crypto form. `module` is that module itself: it is handed in, so that nothing here imports Node. */
export function createNodeEngine(module: object): CryptoEngine {
  const crypto = module as typeof NodeCrypto;
  const importObject = (jwk: JsonWebKey, use: "sign" | "verify") => {
    if (jwk.kty === "oct") return crypto.createSecretKey(jwk.k ?? "", "base64url");
    const input = { key: jwk as NodeCrypto.JsonWebKey, format: "jwk" } as const;
    return use === "sign" ? crypto.createPrivateKey(input) : crypto.createPublicKey(input);
  };
  const gcm = (key: Bytes): NodeCrypto.CipherGCMTypes => (key.length === 16 ? "aes-128-gcm" : "aes-256-gcm");
  const oaep = (hash: "SHA-1" | "SHA-256") => ({
    padding: crypto.constants.RSA_PKCS1_OAEP_PADDING,
    oaepHash: hash === "SHA-1" ? "sha1" : "sha256",
  });
  const mac = (key: NodeCrypto.KeyObject | Bytes, hash: NodeScheme["hash"] | "sha1", data: Bytes) =>
    joinBytes(
      crypto
        .createHmac(hash ?? "", key)
        .update(data)
        .digest(),
    );

  const engine: CryptoEngine = {
    name: "node",
    digestText: (hash, text) => crypto.hash(hashes[hash], text, "base64url"),
    importKey(jwk, algorithm, use): EngineKey {
      const { hash, options } = schemeOf(algorithm);
      return { algorithm, use, engine, handle: { key: importObject(jwk, use), hash, ...options?.(crypto) } };
    },
    sign(key, data) {
      const { hash, ...handle } = key.handle as NodeHandle;
      if (key.algorithm.startsWith("HS")) return mac(handle.key, hash, data);
      return joinBytes(crypto.sign(hash, data, handle));
    },
    verify(key, signature, data) {
      const handle = key.handle as NodeHandle;
      if (!key.algorithm.startsWith("HS")) return crypto.verify(handle.hash, data, handle, signature);
      const expected = mac(handle.key, handle.hash, data);
      return expected.length === signature.length && crypto.timingSafeEqual(expected, signature);
    },
    digest: (hash, data) => joinBytes(crypto.hash(hashes[hash], data, "buffer")),
    mac: (hash, key, data) => mac(key, hash === "SHA-1" ? "sha1" : hashes[hash], data),
    signRsaSha1: (privateKey, data) => joinBytes(crypto.sign("sha1", data, importObject(privateKey, "sign"))),
    verifyRsaSha1: (publicKey, signature, data) =>
      crypto.verify("sha1", data, importObject(publicKey, "verify"), signature),
    encryptGcm(key, iv, plaintext, associated) {
      const cipher = crypto.createCipheriv(gcm(key), key, iv).setAAD(associated);
      return joinBytes(cipher.update(plaintext), cipher.final(), cipher.getAuthTag());
    },
    decryptGcm(key, iv, ciphertext, associated) {
      const end = ciphertext.length - tagLength;
      const decipher = crypto
        .createDecipheriv(gcm(key), key, iv, { authTagLength: tagLength })
        .setAAD(associated)
        .setAuthTag(ciphertext.subarray(end));
      return joinBytes(decipher.update(ciphertext.subarray(0, end)), decipher.final());
    },
    encryptCbc(key, iv, plaintext) {
      const cipher = crypto.createCipheriv(`aes-${key.length * 8}-cbc`, key, iv);
      return joinBytes(cipher.update(plaintext), cipher.final());
    },
    decryptCbc(key, iv, ciphertext) {
      const decipher = crypto.createDecipheriv(`aes-${key.length * 8}-cbc`, key, iv);
      return joinBytes(decipher.update(ciphertext), decipher.final());
    },
    wrapKey(wrapping, key) {
      const cipher = crypto.createCipheriv(`id-aes${wrapping.length * 8}-wrap`, wrapping, wrapIv);
      return joinBytes(cipher.update(key), cipher.final());
    },
    unwrapKey(wrapping, wrapped) {
      const decipher = crypto.createDecipheriv(`id-aes${wrapping.length * 8}-wrap`, wrapping, wrapIv);
      return joinBytes(decipher.update(wrapped), decipher.final());
    },
    encryptOaep: (publicKey, hash, data) =>
      joinBytes(crypto.publicEncrypt({ key: importObject(publicKey, "verify"), ...oaep(hash) }, data)),
    decryptOaep: (privateKey, hash, data) =>
      joinBytes(crypto.privateDecrypt({ key: importObject(privateKey, "sign"), ...oaep(hash) }, data)),
    agree: (privateKey, publicKey) =>
      joinBytes(
        crypto.diffieHellman({
          privateKey: importObject(privateKey, "sign"),
          publicKey: importObject(publicKey, "verify"),
        }),
      ),
    // Not by generateKeyPair: in Node 20 what makes a pair and the export of it take one lock, and where memory is collected
    // during the export the process waits for itself, for ever.
    generateKey(namedCurve) {
      const [name, length] = curves[namedCurve];
      const pair = crypto.createECDH(name);
      // An uncompressed point is 04, x and y.
      const point = pair.generateKeys().subarray(1);
      const secret = pair.getPrivateKey();
      const d = new Uint8Array(length);
      d.set(secret, length - secret.length);
      return {
        kty: "EC",
        crv: namedCurve,
        x: base64urlFromBytes(point.subarray(0, length)),
        y: base64urlFromBytes(point.subarray(length)),
        d: base64urlFromBytes(d),
      };
    },
  };
  return engine;
}
