import type { SignatureAlgorithm } from "../platform/index.js";

/** What a key must be to serve an algorithm, and how long its signatures are. */
interface AlgorithmNeeds {
  readonly kty: "RSA" | "EC" | "OKP";
  readonly crv?: string;
  /** Fixed length in bytes; RSA signatures are as long as the modulus. */
  readonly signatureBytes?: number;
}

/**
 * The seam for further algorithms: a row here, one in each engine of platform/, and a name in SignatureAlgorithm.
 * RFC 7518 sections 3.3–3.5, RFC 8037 section 3.1. In the order a client prefers them.
 */
export const algorithmNeeds: Readonly<Record<SignatureAlgorithm, AlgorithmNeeds>> = {
  EdDSA: { kty: "OKP", crv: "Ed25519", signatureBytes: 64 },
  ES256: { kty: "EC", crv: "P-256", signatureBytes: 64 },
  PS256: { kty: "RSA" },
  RS256: { kty: "RSA" },
};

export const signatureAlgorithms = Object.keys(algorithmNeeds) as readonly SignatureAlgorithm[];

export function isSignatureAlgorithm(name: unknown): name is SignatureAlgorithm {
  return typeof name === "string" && Object.hasOwn(algorithmNeeds, name);
}
