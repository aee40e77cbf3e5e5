import { encodeBase64url, signJws } from "../jose/index.js";
import { fail } from "../problem/index.js";
import type { Provider } from "./open-provider.js";

/** A client assertion is good for a minute: long enough for one request, too short to be of use to a finder. */
const assertionSeconds = 60;

/** What proves the client at an endpoint that asks for it: headers to send, form parameters to add. */
export interface ClientProof {
  readonly headers: Readonly<Record<string, string>>;
  readonly form: Readonly<Record<string, string>>;
}

/**
 * Proves the client at the provider's endpoints: RFC 6749 section 2.3.1, OpenID Connect Core 1.0 section 9, RFC 7523
 * sections 2.2 and 3.
 */
export async function authenticateClient(provider: Provider): Promise<ClientProof> {
  const { clientId, clientAuthentication } = provider;
  const secret = provider.clientSecret?.reveal() ?? "";
  switch (clientAuthentication) {
    case "client_secret_basic": {
      // 2.3.1: both are form-encoded first, so that a colon in the ID or an umlaut in the secret survives.
      const encode = provider.deviations.basicNotEncoded === true ? utf8Binary : formEncode;
      const credentials = `${encode(clientId)}:${encode(secret)}`;
      return { headers: { authorization: `Basic ${btoa(credentials)}` }, form: {} };
    }
    case "client_secret_post":
      return { headers: {}, form: { client_id: clientId, client_secret: secret } };
    case "client_secret_jwt":
    case "private_key_jwt":
      return {
        headers: {},
        form: {
          client_id: clientId,
          client_assertion_type: "urn:ietf:params:oauth:client-assertion-type:jwt-bearer",
          client_assertion: await signAssertion(provider),
        },
      };
    // RFC 8705 section 2: the TLS connection proves the client; the parameter says which one it is.
    case "tls_client_auth":
    case "self_signed_tls_client_auth":
    case "none":
      return { headers: {}, form: { client_id: clientId } };
  }
}

/** RFC 7523 section 3: from and about the client, for this provider alone, once, for a minute. */
async function signAssertion(provider: Provider): Promise<string> {
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

/** UTF-8 as a string of bytes, which is what Basic carries (RFC 7617 section 2.1). */
function utf8Binary(text: string): string {
  return String.fromCharCode(...new TextEncoder().encode(text));
}

/** application/x-www-form-urlencoded, RFC 6749 appendix B. */
export function formEncode(text: string): string {
  return new URLSearchParams([["", text]]).toString().slice(1);
}
