import { encodeBase64url, isSignatureAlgorithm, signJws } from "../jose/index.js";
import { fail } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import type { Provider } from "../provider/index.js";

/** A request object serves one trip to the authorization endpoint. */
const requestSeconds = 300;

/**
 * Puts the parameters of an authorization request into a signed request object: RFC 9101 sections 4 and 5. What stays
 * outside is what OpenID Connect Core 1.0 section 6.1 wants there as well; the provider goes by what is inside.
 *
 * @throws provider.client-key-refused
 */
export async function signRequest(
  provider: Provider,
  parameters: readonly (readonly [string, string])[],
): Promise<readonly (readonly [string, string])[]> {
  const { tools, clientId, issuer, clientKeys = [], registered } = provider;
  const alg = registered.requestObjectSigningAlg;
  const jwk = clientKeys.find((key) => key.alg === alg);
  if (!jwk || !isSignatureAlgorithm(alg))
    fail("provider.client-key-refused", { received: `no key for ${alg ?? ""}` });
  const { prepareOwnKey } = await loadPart(import("../provider/own-keys.js"));
  const key = await prepareOwnKey(tools, jwk, alg);
  const now = Math.floor(tools.platform.now());
  const claims = Object.fromEntries(parameters.map(([name, value]) => [name, claimOf(name, value)]));
  const resources = parameters.filter(([name]) => name === "resource").map(([, value]) => value);
  const object = await signJws(
    tools,
    key,
    {
      ...claims,
      ...(resources.length > 1 && { resource: resources }),
      iss: clientId,
      aud: issuer,
      iat: now,
      nbf: now,
      exp: now + requestSeconds,
      jti: encodeBase64url(tools.platform.randomBytes(16)),
    },
    { typ: "oauth-authz-req+jwt", ...(jwk.kid !== undefined && { kid: jwk.kid }) },
  );
  const outside = ["client_id", "response_type", "scope"];
  return [...parameters.filter(([name]) => outside.includes(name)), ["request", object]];
}

/** RFC 9101 section 4, RFC 9396 section 3: what is JSON in a parameter is JSON in the object, and numbers are numbers. */
function claimOf(name: string, value: string): unknown {
  if (name === "claims" || name === "authorization_details") return JSON.parse(value) as unknown;
  return name === "max_age" ? Number(value) : value;
}
