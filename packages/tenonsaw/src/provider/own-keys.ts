import { encodeBase64url, isSignatureAlgorithm, macBytes, prepareKey, type Jwk } from "../jose/index.js";
import type { EngineKey, Secret, SignatureAlgorithm } from "../platform/index.js";
import { fail, isProblem } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import type { ClientAuthentication } from "./settings-types.js";

/** What an app proves itself with: a page has neither, and does not load this. */
interface HeldSecrets {
  readonly tools: Tools;
  readonly clientSecret: Secret | undefined;
  readonly clientKeys: readonly Jwk[] | undefined;
}

/** A client assertion is signed with the app's own key, or with its secret: OpenID Connect Core 1.0 section 9. */
export async function prepareAssertionKey(
  held: HeldSecrets,
  authentication: ClientAuthentication,
): Promise<EngineKey> {
  if (authentication === "client_secret_jwt") return prepareMacKey(held, "HS256", "sign");
  const first = held.clientKeys?.find((key) => isSignatureAlgorithm(key.alg));
  if (!isSignatureAlgorithm(first?.alg)) {
    fail("provider.client-key-refused", { received: "clientKeys without one to sign with" });
  }
  return prepareOwnKey(held.tools, first, first.alg);
}

/**
 * One of the app's own keys, to sign with: what is amiss with it is nobody else's fault.
 *
 * @throws provider.client-key-refused
 */
export async function prepareOwnKey(
  tools: Tools,
  key: Jwk,
  algorithm: SignatureAlgorithm,
): Promise<EngineKey> {
  try {
    return await prepareKey(tools, key, algorithm, "sign");
  } catch (error) {
    if (!isProblem(error)) throw error;
    return fail("provider.client-key-refused", { received: error.problem.received ?? "", because: "unfit" });
  }
}

/** The octets of the client secret's UTF-8 as a MAC key: OpenID Connect Core 1.0 section 10.1. */
export function prepareMacKey(
  { tools, clientSecret }: HeldSecrets,
  algorithm: SignatureAlgorithm,
  operation: "sign" | "verify",
): Promise<EngineKey> {
  const bytes = new TextEncoder().encode(clientSecret?.reveal() ?? "");
  const needed = macBytes(algorithm);
  if (bytes.length < needed) {
    const message = `is too short: ${algorithm} takes at least ${needed} bytes, and it has ${bytes.length}`;
    fail("provider.settings-refused", {
      received: "a client secret that is too short for its MAC",
      findings: [{ path: "clientSecret", message }],
    });
  }
  return prepareKey(
    tools,
    { kty: "oct", k: encodeBase64url(bytes), kid: "client secret" },
    algorithm,
    operation,
  );
}
