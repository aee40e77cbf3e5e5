import type { Provider } from "../provider/index.js";

/**
 * What proves the client at the token and revocation endpoints: RFC 6749 section 2.3.1, OpenID Connect Core 1.0
 * section 9. Returns headers to send and form parameters to add.
 */
export function authenticateClient(provider: Provider): {
  readonly headers: Readonly<Record<string, string>>;
  readonly form: Readonly<Record<string, string>>;
} {
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
    case "none":
      return { headers: {}, form: { client_id: clientId } };
  }
}

/** UTF-8 as a string of bytes, which is what Basic carries (RFC 7617 section 2.1). */
function utf8Binary(text: string): string {
  return String.fromCharCode(...new TextEncoder().encode(text));
}

/** application/x-www-form-urlencoded, RFC 6749 appendix B. */
function formEncode(text: string): string {
  return new URLSearchParams([["", text]]).toString().slice(1);
}
