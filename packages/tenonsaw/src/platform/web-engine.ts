import { base64urlFromBytes } from "./bytes.js";
import type { Bytes, CryptoEngine, EngineKey, Hash, SignatureAlgorithm } from "./crypto-engine.js";

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
  const aesKey = (name: string, key: Bytes, use: KeyUsage) =>
    subtle.importKey("raw", key, name, false, [use]);
  const hmacKey = (key: Bytes, hash: Hash | "SHA-1", uses: KeyUsage[], isExtractable: boolean) =>
    subtle.importKey("raw", key, { name: "HMAC", hash }, isExtractable, uses);
  /** Members that could contradict the use chosen here (use, key_ops, alg, ext) were judged before. */
  const importBare = (
    jwk: JsonWebKey,
    importAs: WebScheme["importAs"] | RsaHashedImportParams,
    uses: KeyUsage[],
  ) => {
    const { kty, crv, x, y, n, e, d, p, q, dp, dq, qi, k } = jwk;
    const members = Object.entries({ kty, crv, x, y, n, e, d, p, q, dp, dq, qi, k });
    const bare = Object.fromEntries(members.filter(([, part]) => part !== undefined));
    return subtle.importKey("jwk", bare, importAs, false, uses);
  };

  const engine: CryptoEngine = {
    name: "web",
    async digestText(hash, text) {
      const digest = new Uint8Array(await subtle.digest(hash, new TextEncoder().encode(text)));
      return base64urlFromBytes(digest);
    },
    async importKey(jwk, algorithm, use): Promise<EngineKey> {
      const handle = await importBare(jwk, schemeOf(algorithm).importAs, [use]);
      return { algorithm, use, engine, handle };
    },
    sign: async (key, data) =>
      new Uint8Array(await subtle.sign(schemeOf(key.algorithm).operateAs, key.handle as CryptoKey, data)),
    verify: (key, signature, data) =>
      subtle.verify(schemeOf(key.algorithm).operateAs, key.handle as CryptoKey, signature, data),
    digest: async (hash, data) => new Uint8Array(await subtle.digest(hash, data)),
    mac: async (hash, key, data) =>
      new Uint8Array(await subtle.sign("HMAC", await hmacKey(key, hash, ["sign"], false), data)),
    async signRsaSha1(privateKey, data) {
      const scheme = { name: "RSASSA-PKCS1-v1_5", hash: "SHA-1" };
      return new Uint8Array(
        await subtle.sign(scheme.name, await importBare(privateKey, scheme, ["sign"]), data),
      );
    },
    async verifyRsaSha1(publicKey, signature, data) {
      const scheme = { name: "RSASSA-PKCS1-v1_5", hash: "SHA-1" };
      return subtle.verify(scheme.name, await importBare(publicKey, scheme, ["verify"]), signature, data);
    },
    encryptGcm: async (key, iv, plaintext, associated) =>
      new Uint8Array(
        await subtle.encrypt(gcm(iv, associated), await aesKey("AES-GCM", key, "encrypt"), plaintext),
      ),
    decryptGcm: async (key, iv, ciphertext, associated) =>
      new Uint8Array(
        await subtle.decrypt(gcm(iv, associated), await aesKey("AES-GCM", key, "decrypt"), ciphertext),
      ),
    encryptCbc: async (key, iv, plaintext) =>
      new Uint8Array(
        await subtle.encrypt({ name: "AES-CBC", iv }, await aesKey("AES-CBC", key, "encrypt"), plaintext),
      ),
    decryptCbc: async (key, iv, ciphertext) =>
      new Uint8Array(
        await subtle.decrypt({ name: "AES-CBC", iv }, await aesKey("AES-CBC", key, "decrypt"), ciphertext),
      ),
    // What is wrapped has to be a key of some kind: any bytes are one for HMAC.
    wrapKey: async (wrapping, key) =>
      new Uint8Array(
        await subtle.wrapKey(
          "raw",
          await hmacKey(key, "SHA-256", ["sign"], true),
          await aesKey("AES-KW", wrapping, "wrapKey"),
          "AES-KW",
        ),
      ),
    async unwrapKey(wrapping, wrapped) {
      const unwrapping = await aesKey("AES-KW", wrapping, "unwrapKey");
      const hmac = { name: "HMAC", hash: "SHA-256" };
      const key = await subtle.unwrapKey("raw", wrapped, unwrapping, "AES-KW", hmac, true, ["sign"]);
      return new Uint8Array(await subtle.exportKey("raw", key));
    },
    async encryptOaep(publicKey, hash, data) {
      const key = await importBare(publicKey, { name: "RSA-OAEP", hash }, ["encrypt"]);
      return new Uint8Array(await subtle.encrypt("RSA-OAEP", key, data));
    },
    async decryptOaep(privateKey, hash, data) {
      const key = await importBare(privateKey, { name: "RSA-OAEP", hash }, ["decrypt"]);
      return new Uint8Array(await subtle.decrypt("RSA-OAEP", key, data));
    },
    async agree(privateKey, publicKey) {
      const { crv = "" } = privateKey;
      const importAs = { name: "ECDH", namedCurve: crv };
      const own = await importBare(privateKey, importAs, ["deriveBits"]);
      const other = await importBare(publicKey, importAs, []);
      const bits = { "P-256": 256, "P-384": 384, "P-521": 528 }[crv] ?? null;
      return new Uint8Array(await subtle.deriveBits({ name: "ECDH", public: other }, own, bits));
    },
    async generateKey(namedCurve) {
      const pair = await subtle.generateKey({ name: "ECDSA", namedCurve }, true, ["sign", "verify"]);
      return subtle.exportKey("jwk", pair.privateKey);
    },
  };
  return engine;
}
