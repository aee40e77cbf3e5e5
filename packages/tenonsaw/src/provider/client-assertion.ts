import { encodeBase64url, signJws } from "../jose/index.js";
import { fail } from "../problem/index.js";
import type { Provider } from "./settle-provider.js";

/** A client assertion is good for a minute: long enough for one request, too short to be of use to a finder. */
const assertionSeconds = 60;

/** RFC 7523 section 3: from and about the client, for this provider alone, once, for a minute. */
export async function signAssertion(provider: Provider): Promise<string> {
  const { clientId, issuer, metadata, deviations, tools } = provider;
  const key = provider.assertionKey;
  if (!key) fail("provider.client-key-refused", { received: "no key to sign with" });
  const kid = provider.clientKeys?.find(({ alg }) => alg === key.algorithm)?.kid;
  const now = Math.floor(tools.platform.now());
  // The issuer is the one audience that no other endpoint of no other provider takes for itself (RFC 7523 section 3
  // leaves it open; naming an endpoint lets a dishonest provider have one's assertion used elsewhere). Where tenants
  // share a provider, its issuer has a placeholder in it, and the token endpoint stands for it.
  const audience =
    provider.clientAssertionAudience ?? (deviations.tenants ? metadata.token_endpoint : issuer);
  const claims = {
    iss: clientId,
    sub: clientId,
    aud: audience,
    jti: encodeBase64url(tools.platform.randomBytes(16)),
    iat: now,
    exp: now + assertionSeconds,
  };
  return signJws(tools, key, claims, {
    // SMART App Launch 2.2 fixes the type; elsewhere one of its own keeps it from being taken for another token.
    typ: provider.host?.isSmart === true ? "JWT" : "client-authentication+jwt",
    ...(kid !== undefined && { kid }),
  });
}
