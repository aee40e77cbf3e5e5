import type { Attempt } from "../attempt/index.js";
import type { Provider } from "../provider/index.js";
import type { Grant } from "./grant.js";
import { requestTokens } from "./token-request.js";

/**
 * Exchanges an authorization code for tokens: RFC 6749 section 4.1.3, RFC 7636 section 4.5.
 *
 * @throws grant.*, platform.*
 */
export function exchangeCode(provider: Provider, attempt: Attempt, code: string): Promise<Grant> {
  return requestTokens(provider, {
    leg: "token request",
    form: {
      grant_type: "authorization_code",
      code,
      redirect_uri: attempt.redirectUri,
      code_verifier: attempt.codeVerifier,
    },
    scope: attempt.scope,
    dpopKey: attempt.dpopKey,
    invalidGrant: "grant.code-refused",
  });
}
