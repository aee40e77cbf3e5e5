import {
  isKeyManagement,
  isKeyPairAlgorithm,
  isSignatureAlgorithm,
  parseJsonObject,
  publicPart,
  type Jwk,
} from "../jose/index.js";
import { conceal, type Secret } from "../platform/index.js";
import { fail, isProblem, type ProblemFinding } from "../problem/index.js";
import { requireFit } from "../trace/index.js";
import type { ResolvedProviderSettings } from "./settings-types.js";

/** Members of the registration that take a key of the app's own. */
export const byOwnKey = [
  "idTokenEncryptedResponseAlg",
  "userinfoEncryptedResponseAlg",
  "authorizationEncryptedResponseAlg",
  "requestObjectSigningAlg",
] as const;

/** What is registered, and takes a key that the app does not have. */
export function missingOwnKeys(
  settings: Pick<ResolvedProviderSettings, (typeof byOwnKey)[number] | "clientSecret">,
  clientKeys: readonly Jwk[],
): readonly ProblemFinding[] {
  return byOwnKey.flatMap((path) => {
    const alg = settings[path];
    if (alg === undefined || clientKeys.some((key) => key.alg === alg)) return [];
    if (!isSymmetric(alg))
      return [{ path, message: `is ${alg}, and clientKeys has no key of that algorithm` }];
    return settings.clientSecret === undefined
      ? [{ path, message: `is ${alg}, whose key is the client secret, and there is none` }]
      : [];
  });
}

/** Algorithms whose key is the client secret. */
function isSymmetric(alg: string): boolean {
  return alg === "dir" || /^A\d+KW$/.test(alg) || alg.startsWith("HS");
}

/**
 * Reads the app's own keys: a private JWK, or a JWK Set of them (RFC 7517 sections 4 and 5), to sign with or to decrypt
 * with, as their `alg` says. The first of each signs; the others are those before it, published for as long as the provider may still hold what they signed.
 *
 * @throws provider.client-key-refused, server.unfit-argument
 */
export function readClientKeys(text: Secret): readonly Jwk[] {
  requireFit(text, (given) => "reveal" in Object(given), "a Secret: new Secret(text)");
  const parsed = parse(text.reveal());
  const keys = (
    Array.isArray(parsed["keys"]) ? parsed["keys"] : [parsed]
  ) as readonly (Partial<Jwk> | null)[];
  const usable = keys.filter(isPrivateKey).map(conceal);
  if (usable.length === 0 || usable.length < keys.length) {
    const each = keys.map((key) => {
      const missing = ["alg", "kid", "d"].filter((name) => !Object.hasOwn(key ?? {}, name));
      return isPrivateKey(key) ? "good" : `without ${missing.join(", ") || "use here"}`;
    });
    fail("provider.client-key-refused", {
      received: each.length === 0 ? "no keys" : `keys that are, in turn: ${each.join("; ")}`,
    });
  }
  return usable;
}

/**
 * What may be published of them: a JWK Set for the provider to verify by.
 *
 * @throws server.unfit-argument
 */
export function publicKeySet(keys: readonly Jwk[]): { readonly keys: readonly Jwk[] } {
  requireFit(keys, (given) => Array.isArray(given), "a list of keys, as readClientKeys gives it");
  return { keys: keys.map(publicPart) };
}

function parse(text: string): Readonly<Record<string, unknown>> {
  try {
    return parseJsonObject(text, "client keys");
  } catch (error) {
    if (!isProblem(error)) throw error;
    // Not a word of it is repeated: it is, or was meant to be, a private key.
    fail("provider.client-key-refused", {
      received: `${text.length} characters that are no JSON`,
      because: text.includes("-----BEGIN") ? "pem" : /^[^{}]{1,200}$/.test(text) ? "path" : undefined,
    });
  }
}

function isPrivateKey(key: Partial<Jwk> | null): key is Jwk {
  if (typeof key !== "object" || key === null) return false;
  const isForSigning = isSignatureAlgorithm(key.alg) && isKeyPairAlgorithm(key.alg);
  const isForDecryption = isKeyManagement(key.alg) && (key.kty === "RSA" || key.kty === "EC");
  return (
    (isForSigning || isForDecryption) &&
    typeof key.kty === "string" &&
    typeof key.kid === "string" &&
    typeof key.d === "string"
  );
}
