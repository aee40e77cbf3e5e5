import type { Provider } from "../provider/index.js";
import type { Grant } from "./grant.js";
import { requestTokens } from "./token-request.js";

/**
 * An access token for the app itself, without a person: RFC 6749 section 4.4. There is no refresh token to it; ask
 * again when it has expired.
 *
 * @param scope what the token has to allow, separated by spaces
 * @throws grant.*, platform.*
 */
export function requestClientToken(provider: Provider, scope: string): Promise<Grant> {
  const { resource, audience } = provider.authorizationParameters;
  return requestTokens(provider, {
    leg: "token request",
    form: {
      grant_type: "client_credentials",
      scope: scope.replaceAll(" ", provider.deviations.scopeSeparator ?? " "),
      ...(resource !== undefined && { resource }),
      ...(audience !== undefined && { audience }),
    },
    scope,
    invalidGrant: "grant.provider-error",
  });
}
