import { requireProvider, requireTexts, type Provider } from "../provider/index.js";
import type { Grant } from "./grant.js";
import { requestTokens } from "./token-request.js";

const accessTokenType = "urn:ietf:params:oauth:token-type:access_token";

/**
 * An access token for what an assertion says: RFC 7523 sections 2.1 and 4. The assertion is a JWT that somebody whom the
 * provider trusts has signed.
 *
 * @param scope what the token has to allow, separated by spaces; left out, what the provider thinks right
 * @throws provider.not-open, attempt.parameters-refused, grant.*, platform.*
 */
export async function requestAssertionToken(
  provider: Provider,
  assertion: string,
  scope?: string,
): Promise<Grant> {
  requireProvider(provider);
  requireTexts({ assertion }, { scope });
  return requestTokens(provider, {
    leg: "token request",
    form: {
      grant_type: "urn:ietf:params:oauth:grant-type:jwt-bearer",
      assertion,
      ...(scope !== undefined && { scope }),
    },
    scope: scope ?? "",
    invalidGrant: "grant.provider-error",
  });
}

/** What to exchange for what: RFC 8693 section 2.1. */
export interface TokenExchange {
  readonly subjectToken: string;
  /** What kind of token it is. Default: an access token. */
  readonly subjectTokenType?: string;
  /** On whose behalf the new token is used, if not on the subject's own. */
  readonly actorToken?: string;
  readonly actorTokenType?: string;
  /** Where the new token is to be used: by name, and by address. */
  readonly audience?: readonly string[];
  readonly resource?: readonly string[];
  readonly scope?: string;
}

/**
 * Exchanges a token for an access token that serves elsewhere, or less: RFC 8693 section 2. Another kind of token than an
 * access token is refused.
 *
 * @throws provider.not-open, attempt.parameters-refused, grant.*, platform.*
 */
export async function exchangeToken(provider: Provider, exchange: TokenExchange): Promise<Grant> {
  const {
    subjectToken,
    subjectTokenType = accessTokenType,
    actorToken,
    actorTokenType,
    scope,
    audience,
    resource,
  } = (exchange as TokenExchange | undefined) ?? ({} as TokenExchange);
  requireProvider(provider);
  requireTexts({ subjectToken }, { subjectTokenType, actorToken, actorTokenType, scope });
  return requestTokens(provider, {
    leg: "token request",
    form: {
      grant_type: "urn:ietf:params:oauth:grant-type:token-exchange",
      subject_token: subjectToken,
      subject_token_type: subjectTokenType,
      requested_token_type: accessTokenType,
      // 2.1: the type belongs to the token, and to nothing else.
      ...(actorToken !== undefined && {
        actor_token: actorToken,
        actor_token_type: actorTokenType ?? accessTokenType,
      }),
      audience: audience ?? [],
      resource: resource ?? [],
      ...(scope !== undefined && { scope }),
    },
    scope: scope ?? "",
    issuedTokenType: accessTokenType,
    invalidGrant: "grant.provider-error",
  });
}
