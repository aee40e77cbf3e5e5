import type { Hash, SignatureAlgorithm } from "../platform/index.js";

/** What a key must be to serve an algorithm, and how long its signatures are. */
interface AlgorithmNeeds {
  readonly kty: "RSA" | "EC" | "OKP" | "oct";
  readonly crv?: string;
  /** Fixed length in bytes; RSA signatures are as long as the modulus. */
  readonly signatureBytes?: number;
}

/**
 * The algorithms in the order a client prefers them: RFC 7518 sections 3.2–3.5, RFC 8037 section 3.1. A further one is
 * a row here, a scheme in each engine of platform/, and a name in SignatureAlgorithm.
 */
export const algorithmNeeds: Readonly<Record<SignatureAlgorithm, AlgorithmNeeds>> = {
  EdDSA: { kty: "OKP", crv: "Ed25519", signatureBytes: 64 },
  ES256: { kty: "EC", crv: "P-256", signatureBytes: 64 },
  ES384: { kty: "EC", crv: "P-384", signatureBytes: 96 },
  ES512: { kty: "EC", crv: "P-521", signatureBytes: 132 },
  PS256: { kty: "RSA" },
  PS384: { kty: "RSA" },
  PS512: { kty: "RSA" },
  RS256: { kty: "RSA" },
  RS384: { kty: "RSA" },
  RS512: { kty: "RSA" },
  HS256: { kty: "oct", signatureBytes: 32 },
  HS384: { kty: "oct", signatureBytes: 48 },
  HS512: { kty: "oct", signatureBytes: 64 },
};

/** All signature algorithms and MACs that are supported. */
export const signatureAlgorithms = Object.keys(algorithmNeeds) as readonly SignatureAlgorithm[];

/** Whether this is a signature algorithm or MAC that is supported (RFC 7518 section 3.1). */
export function isSignatureAlgorithm(name: unknown): name is SignatureAlgorithm {
  return typeof name === "string" && Object.hasOwn(algorithmNeeds, name);
}

/** How long an algorithm's signatures are, in bytes; undefined where the key says: RSA (RFC 7518 sections 3.2 to 3.5). */
export function signatureBytes(algorithm: SignatureAlgorithm): number | undefined {
  return algorithmNeeds[algorithm].signatureBytes;
}

/** How long a MAC's key has to be: RFC 7518 section 3.2. */
export function macBytes(algorithm: SignatureAlgorithm): number {
  return isKeyPairAlgorithm(algorithm) ? 0 : (algorithmNeeds[algorithm].signatureBytes ?? 0);
}

/** Signed with a key pair. The others are MACs: whoever can check one can make one. */
export function isKeyPairAlgorithm(algorithm: SignatureAlgorithm): boolean {
  return algorithmNeeds[algorithm].kty !== "oct";
}

/** The hash an algorithm works with, also for `at_hash` and the like. EdDSA names none; Ed25519 has SHA-512 inside. */
export function hashOf(algorithm: SignatureAlgorithm): Hash {
  return algorithm === "EdDSA" ? "SHA-512" : (`SHA-${algorithm.slice(2)}` as Hash);
}

/** FAPI 2.0 Security Profile section 5.4: no other algorithm signs anything. */
export const fapi2Algorithms: readonly SignatureAlgorithm[] = ["PS256", "ES256", "EdDSA"];
