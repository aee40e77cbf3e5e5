import { fail } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { authenticateClient, readMembers, requireProvider, type Provider } from "../provider/index.js";
import { requireAvailable, sendLeg } from "../trace/index.js";
import { requireGrant, type Grant } from "./grant.js";

/**
 * Takes a grant back at the provider: RFC 7009 section 2.1. Revoking the refresh token ends its access tokens
 * too, where the provider can; without one the access token itself is revoked. Does nothing at a provider that
 * offers no revocation, and says so by returning false.
 *
 * @throws provider.not-open, grant.not-a-grant, provider.unavailable, grant.client-refused, grant.revocation-refused, platform.*
 */
export async function revokeGrant(provider: Provider, grant: Grant): Promise<boolean> {
  requireProvider(provider);
  requireGrant(grant);
  const url = provider.metadata.revocation_endpoint;
  if (url === undefined) return false;
  // RFC 8414 section 2: no secret goes there in a way that the provider does not take there.
  const methods = provider.metadata.revocation_endpoint_auth_methods_supported;
  if (methods?.includes(provider.clientAuthentication) === false) {
    fail("grant.revocation-refused", {
      received: `metadata whose revocation_endpoint_auth_methods_supported lists ${methods.join(", ")} only`,
      expected: provider.clientAuthentication,
      because: "not-listed",
    });
  }
  const client = await authenticateClient(provider);
  const answer = await sendLeg(provider.tools, {
    station: "grant",
    leg: "revocation request",
    url,
    headers: client.headers,
    form: new URLSearchParams({
      token: grant.refreshToken ?? grant.accessToken,
      token_type_hint: grant.refreshToken === undefined ? "access_token" : "refresh_token",
      ...client.form,
    }),
    timeoutSeconds: provider.timeoutSeconds,
  });
  // 2.2.1: with 503 the token is still there, and may be taken back later.
  await requireAvailable(provider.tools, "revocation request", answer);
  // 2.2: 200 also for a token that was not known any more.
  if (answer.status === 200) return true;
  const { refuseLeg } = await loadPart(import("../provider/refuse-leg.js"));
  return refuseLeg(
    provider,
    "grant.revocation-refused",
    answer,
    readMembers(answer, "answer to the revocation request"),
  );
}
