import type { Bytes, EngineKey, SignatureAlgorithm } from "../platform/index.js";
import { fail, isProblem } from "../problem/index.js";
import { shapeOf, type Tools } from "../trace/index.js";
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
 *   shorter than its hash, section 3.2) or malformed, or its two parts are not of one key; jose.not-base64url
 */
export async function prepareKey(
  tools: Tools,
  jwk: Jwk,
  algorithm: SignatureAlgorithm,
  operation: "sign" | "verify",
): Promise<EngineKey> {
  const given: unknown = jwk;
  if (typeof given !== "object" || given === null) fail("jose.key-refused", { received: shapeOf(given) });
  const name = `key ${jwk.kid ?? "without key ID"}`;
  const refuse = (received: string, cause?: unknown): never =>
    fail("jose.key-refused", { received: `${name}: ${received}`, ...(cause !== undefined && { cause }) });
  if (!fits(jwk, algorithm, operation)) return refuse(`not a key to ${operation} ${algorithm}`);
  const signatureBytes = requireSound(jwk, algorithm, operation, refuse);
  const { crypto } = tools.platform;
  const usable = operation === "verify" && jwk.kty !== "oct" ? publicPart(jwk) : jwk;
  try {
    const key = await crypto.importKey(usable as unknown as JsonWebKey, algorithm, operation);
    if (operation === "sign" && jwk.kty !== "oct" && !(await isPair(tools, key, jwk)))
      return refuse("its public and its private part are of two keys");
    return signatureBytes === undefined ? key : { ...key, signatureBytes };
  } catch (error) {
    if (isProblem(error)) throw error;
    return refuse("malformed", error);
  }
}

/** Whether what the private part signs holds against the public one. */
async function isPair(tools: Tools, signing: EngineKey, jwk: Jwk): Promise<boolean> {
  const { crypto } = tools.platform;
  const { algorithm } = signing;
  const probe = new Uint8Array(32);
  const verifying = await crypto.importKey(publicPart(jwk) as unknown as JsonWebKey, algorithm, "verify");
  return crypto.verify(verifying, await crypto.sign(signing, probe), probe);
}

/**
 * Holds a key's members to their standards, so that no engine has to: RFC 7518 sections 3.2, 3.3, 6.2.1, 6.3.1 and 6.4,
 * RFC 8037 section 2.
 *
 * @returns how long the key's signatures are, where the algorithm alone does not say
 */
function requireSound(
  jwk: Jwk,
  algorithm: SignatureAlgorithm,
  operation: "sign" | "verify",
  refuse: (received: string) => never,
): number | undefined {
  const bytesOf = (member: string) => {
    const value = jwk[member];
    if (typeof value !== "string") return refuse(`\`${member}\` is missing, or no text`);
    return decodeBase64url(value, member);
  };
  const needs = algorithmNeeds[algorithm];
  switch (needs.kty) {
    case "RSA": {
      const [modulus, exponent] = [bytesOf("n"), bytesOf("e")];
      // 6.3.1: as few bytes as it takes.
      if (modulus[0] === 0 || exponent[0] === 0) return refuse("a number that begins with a zero");
      if (modulusBits(modulus) < 2048) return refuse(`RSA with ${modulusBits(modulus)} bits`);
      if (modulus.length > 2048) return refuse(`RSA with ${modulusBits(modulus)} bits`);
      // RFC 8017 section 3.1: the product of odd primes.
      if ((modulus.at(-1) ?? 0) % 2 === 0) return refuse("an even modulus");
      const hasPrimes = operation === "sign" && jwk["p"] !== undefined && jwk["oth"] === undefined;
      if (hasPrimes && numberOf(bytesOf("p")) * numberOf(bytesOf("q")) !== numberOf(modulus))
        return refuse("a modulus that is not the product of its primes");
      // The exponent: odd, and at least 3. More than 64 bits are in nobody's use, and take their time.
      const isSmall = exponent.length === 1 && (exponent[0] ?? 0) < 3;
      if (exponent.length === 0 || exponent.length > 8 || isSmall || (exponent.at(-1) ?? 0) % 2 === 0)
        return refuse("an exponent that is even, or below 3, or far too large");
      if (operation === "sign") bytesOf("d");
      return modulus.length;
    }
    case "EC":
    case "OKP": {
      const length = coordinateBytes[needs.crv ?? ""] ?? 0;
      const members = ["x", ...(needs.kty === "EC" ? ["y"] : []), ...(operation === "sign" ? ["d"] : [])];
      for (const member of members) {
        if (bytesOf(member).length !== length) return refuse(`\`${member}\` has not ${length} bytes`);
      }
      return undefined;
    }
    case "oct": {
      // 3.2: a MAC key is at least as long as the hash.
      const { length } = bytesOf("k");
      if (length < (needs.signatureBytes ?? 0))
        return refuse(`a MAC key of ${length} bytes for ${algorithm}`);
      return undefined;
    }
  }
}

const numberOf = (bytes: Bytes) =>
  BigInt(`0x${Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("") || "0"}`);

/** RFC 7518 section 6.2.1.2, RFC 8037 section 2. */
const coordinateBytes: Readonly<Record<string, number>> = {
  "P-256": 32,
  "P-384": 48,
  "P-521": 66,
  Ed25519: 32,
};

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
  for (const name of names) {
    const value = jwk[name];
    if (typeof value !== "string" || value === "")
      fail("jose.key-refused", { received: `a key without \`${name}\`` });
    if (name !== "kty" && name !== "crv") decodeBase64url(value, name);
  }
  const canonical = JSON.stringify(Object.fromEntries(names.map((name) => [name, jwk[name]])));
  return await tools.platform.crypto.digestText("SHA-256", canonical);
}

/** How long an RSA key is. */
export function modulusBits(modulus: Bytes): number {
  const first = modulus.findIndex((byte) => byte !== 0);
  return first < 0 ? 0 : (modulus.length - first) * 8 - Math.clz32(modulus[first] ?? 0) + 24;
}
