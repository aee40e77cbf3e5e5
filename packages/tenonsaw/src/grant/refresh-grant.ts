import { fail } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import type { Grant } from "./grant.js";
import { requestTokens } from "./token-request.js";

/**
 * Renews a grant: RFC 6749 section 6. Where the provider sends no new refresh token, the old one stays
 * (RFC 6749 section 6); likewise the ID token (OpenID Connect Core 1.0 section 12.2), and nothing is read from a
 * new one: who signed in was settled at sign-in.
 *
 * @throws grant.no-refresh-token, grant.refresh-refused, grant.*, platform.*
 */
export async function refreshGrant(provider: Provider, grant: Grant): Promise<Grant> {
  if (grant.refreshToken === undefined) {
    fail("grant.no-refresh-token", { received: `a grant for ${JSON.stringify(grant.scope)} without one` });
  }
  const renewed = await requestTokens(provider, {
    leg: "refresh request",
    form: { grant_type: "refresh_token", refresh_token: grant.refreshToken },
    scope: grant.scope,
    // RFC 9449 5: a refresh token of a public client is bound as well, so the key stays.
    dpopKey: grant.dpopKey,
    invalidGrant: "grant.refresh-refused",
  });
  return {
    ...renewed,
    refreshToken: renewed.refreshToken ?? grant.refreshToken,
    ...(grant.idToken !== undefined && { idToken: grant.idToken }),
  };
}
