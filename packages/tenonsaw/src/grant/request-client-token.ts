import { requireProvider, requireTexts, type Provider } from "../provider/index.js";
import type { Grant } from "./grant.js";
import { targetParameters, type TokenTarget } from "./refresh-grant.js";
import { requestTokens } from "./token-request.js";

/**
 * An access token for the app itself, without a person: RFC 6749 section 4.4. There is no refresh token to it; ask
 * again when it has expired.
 *
 * @param scope what the token has to allow, separated by spaces
 * @param target the API it is for. Default: what the provider's settings say
 * @throws provider.not-open, attempt.parameters-refused, grant.*, platform.*
 */
export async function requestClientToken(
  provider: Provider,
  scope: string,
  target?: TokenTarget,
): Promise<Grant> {
  requireProvider(provider);
  requireTexts({ scope });
  const { resource, audience } = target ?? provider.authorizationParameters;
  return requestTokens(provider, {
    leg: "token request",
    form: {
      grant_type: "client_credentials",
      ...targetParameters({ scope, resource, audience }, provider.deviations.scopeSeparator),
    },
    scope,
    invalidGrant: "grant.provider-error",
  });
}
