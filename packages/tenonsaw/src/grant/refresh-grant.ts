import type { JsonObject } from "../jose/index.js";
import { fail } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { requireProvider, type Provider } from "../provider/index.js";
import { requireGrant, type Grant } from "./grant.js";

/** What an access token is for, where it is not all that was granted. */
export interface TokenTarget {
  /** A part of what was granted, separated by spaces (RFC 6749 section 6). */
  readonly scope?: string | undefined;
  /** The API it is for (RFC 8707 section 2.2). */
  readonly resource?: string | undefined;
  /** The same, at providers that call it audience. */
  readonly audience?: string | undefined;
}

/** A target as parameters of a token request, in an order of its own. */
export function targetParameters(
  { scope, resource, audience }: TokenTarget,
  separator = " ",
): Readonly<Record<string, string>> {
  return {
    ...(scope !== undefined && { scope: scope.replaceAll(" ", separator) }),
    ...(resource !== undefined && { resource }),
    ...(audience !== undefined && { audience }),
  };
}

/**
 * Renews a grant: RFC 6749 section 6. Where the provider sends no new refresh token, the old one stays
 * (RFC 6749 section 6); likewise the ID token. A new one is not read here: `compareRefreshedIdToken` does (OpenID Connect
 * Core 1.0 section 12.2).
 *
 * @param target what the access token is for. Default: all that was granted
 * @param mayStart is called in the moment before each request is sent; what it throws is thrown, and nothing is sent
 *
 * @throws provider.not-open, grant.not-a-grant, grant.no-refresh-token, grant.refresh-refused, grant.*, platform.*
 */
export async function refreshGrant(
  provider: Provider,
  grant: Grant,
  target: TokenTarget = {},
  mayStart?: () => void,
): Promise<Grant> {
  requireProvider(provider);
  requireGrant(grant);
  if (grant.refreshToken === undefined) {
    fail("grant.no-refresh-token", { received: `a grant for ${JSON.stringify(grant.scope)} without one` });
  }
  const { requestTokens } = await loadPart(import("./token-request.js"));
  const renewed = await requestTokens(provider, {
    leg: "refresh request",
    form: {
      grant_type: "refresh_token",
      refresh_token: grant.refreshToken,
      ...targetParameters(target, provider.deviations.scopeSeparator),
    },
    scope: target.scope ?? grant.scope,
    // RFC 9449 5: a refresh token of a public client is bound as well, so the key stays.
    dpopKey: grant.dpopKey,
    invalidGrant: "grant.refresh-refused",
    mayStart,
  });
  const idToken = renewed.idToken ?? grant.idToken;
  return {
    ...renewed,
    // SMART App Launch 2.2, Refresh: what the answer says of the context holds; of what it says nothing stays as it was.
    ...(renewed.context && { context: mergeContext(grant.context, renewed.context) }),
    refreshToken: renewed.refreshToken ?? grant.refreshToken,
    ...(idToken !== undefined && { idToken }),
  };
}

/** A visit, and what else the host has before its user, are about the patient that they came with, and of no use with another. */
function mergeContext(before: JsonObject = {}, told: JsonObject): JsonObject {
  const { encounter: _visit, fhirContext: _records, ...lasting } = before;
  const isOther = "patient" in told && told["patient"] !== before["patient"];
  return { ...(isOther ? lasting : before), ...told };
}
