import type { Provider } from "./settle-provider.js";
import { loadPart } from "../problem/load-part.js";

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
          client_assertion: await (await loadPart(import("./client-assertion.js"))).signAssertion(provider),
        },
      };
    // RFC 8705 section 2: the TLS connection proves the client; the parameter says which one it is.
    case "tls_client_auth":
    case "self_signed_tls_client_auth":
    case "none":
      return { headers: {}, form: { client_id: clientId } };
  }
}

/** UTF-8 as a string of bytes, which is what Basic carries (RFC 7617 section 2.1). */
function utf8Binary(text: string): string {
  return String.fromCharCode(...new TextEncoder().encode(text));
}

/** application/x-www-form-urlencoded, RFC 6749 appendix B. */
export function formEncode(text: string): string {
  return new URLSearchParams([["", text]]).toString().slice(1);
}
