import type { EngineKey, SignatureAlgorithm } from "../platform/index.js";
import { fail, ProblemError } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import { algorithmNeeds } from "./algorithms.js";
import { decodeBase64url } from "./base64url.js";

/** A JSON Web Key, RFC 7517 section 4: the members this library looks at, and any others. */
export interface Jwk {
  readonly kty: string;
  readonly kid?: string;
  readonly use?: string;
  readonly key_ops?: readonly string[];
  readonly alg?: string;
  readonly crv?: string;
  readonly n?: string;
  readonly e?: string;
  readonly x?: string;
  readonly y?: string;
  readonly d?: string;
  readonly [member: string]: unknown;
}

/** Whether the key may serve `algorithm` for `operation`, by what it says of itself (RFC 7517 sections 4.1–4.4). */
export function fits(jwk: Jwk, algorithm: SignatureAlgorithm, operation: "sign" | "verify"): boolean {
  const needs = algorithmNeeds[algorithm];
  return (
    jwk.kty === needs.kty &&
    (needs.crv === undefined || jwk.crv === needs.crv) &&
    (jwk.use === undefined || jwk.use === "sig") &&
    (jwk.key_ops === undefined || jwk.key_ops.includes(operation)) &&
    (jwk.alg === undefined || jwk.alg === algorithm)
  );
}

/**
 * Makes a key ready for one algorithm and one operation.
 *
 * @throws jose.key-refused when it does not fit, is too weak (RSA below 2048 bits, RFC 7518 section 3.3; a MAC key
 *   shorter than its hash, section 3.2) or malformed
 */
export async function prepareKey(
  tools: Tools,
  jwk: Jwk,
  algorithm: SignatureAlgorithm,
  operation: "sign" | "verify",
): Promise<EngineKey> {
  const name = `key ${jwk.kid ?? "without key ID"}`;
  if (!fits(jwk, algorithm, operation)) {
    fail("jose.key-refused", { received: `${name}: not a key to ${operation} ${algorithm}` });
  }
  if (jwk.kty === "RSA" && modulusBits(jwk.n ?? "") < 2048) {
    fail("jose.key-refused", { received: `${name}: RSA with ${modulusBits(jwk.n ?? "")} bits` });
  }
  // RFC 7518 3.2: a MAC key is at least as long as the hash.
  const macBytes = jwk.kty === "oct" ? decodeBase64url(textOf(jwk["k"]), "k").length : undefined;
  if (macBytes !== undefined && macBytes < (algorithmNeeds[algorithm].signatureBytes ?? 0)) {
    fail("jose.key-refused", { received: `${name}: a MAC key of ${macBytes} bytes for ${algorithm}` });
  }
  try {
    const usable = operation === "verify" && jwk.kty !== "oct" ? publicPart(jwk) : jwk;
    return await tools.platform.crypto.importKey(usable as unknown as JsonWebKey, algorithm, operation);
  } catch (error) {
    if (error instanceof ProblemError) throw error;
    fail("jose.key-refused", { received: `${name}: malformed`, cause: error });
  }
}

/** The key without its private members (RFC 7518 sections 6.2.2 and 6.3.2, RFC 8037 section 2). */
export function publicPart(jwk: Jwk): Jwk {
  const privateMembers = new Set(["d", "p", "q", "dp", "dq", "qi", "oth", "k"]);
  return Object.fromEntries(Object.entries(jwk).filter(([name]) => !privateMembers.has(name))) as Jwk;
}

/**
 * The JWK thumbprint with SHA-256, RFC 7638 section 3: required members only, in lexicographic order, no white
 * space.
 */
export async function thumbprint(tools: Tools, jwk: Jwk): Promise<string> {
  const required = {
    RSA: ["e", "kty", "n"],
    EC: ["crv", "kty", "x", "y"],
    OKP: ["crv", "kty", "x"],
    oct: ["k", "kty"],
  };
  const names = required[jwk.kty as keyof typeof required] as readonly string[] | undefined;
  if (!names) fail("jose.key-refused", { received: "a key of an unknown type" });
  const canonical = JSON.stringify(Object.fromEntries(names.map((name) => [name, jwk[name]])));
  return await tools.platform.crypto.digestText("SHA-256", canonical);
}

function textOf(member: unknown): string {
  return typeof member === "string" ? member : "";
}

/** How long an RSA key is. */
export function modulusBits(modulus: string): number {
  const bytes = decodeBase64url(modulus, "modulus");
  const first = bytes.findIndex((byte) => byte !== 0);
  return first < 0 ? 0 : (bytes.length - first) * 8 - Math.clz32(bytes[first] ?? 0) + 24;
}
