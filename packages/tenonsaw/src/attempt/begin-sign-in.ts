import { encodeBase64url } from "../jose/index.js";
import { isSecureUrl, type Platform } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import { codeChallenge } from "./pkce.js";
import { pushRequest } from "./push-request.js";

/** An attempt is good for ten minutes. */
export const attemptLifetimeSeconds = 600;

/** One trip to a provider: everything the way back is held against. Plain data, and secret until it is over. */
export interface Attempt {
  readonly issuer: string;
  readonly clientId: string;
  readonly redirectUri: string;
  readonly scope: string;
  readonly state: string;
  readonly nonce: string;
  readonly codeVerifier: string;
  /** Seconds since the epoch. */
  readonly beganAt: number;
  readonly expiresAt: number;
}

export interface SignInRequest {
  /** Where the provider sends the browser back to, exactly as registered. */
  readonly redirectUri: string;
  /** Scopes to ask for instead of the provider's; must contain `openid`. */
  readonly scope?: string;
}

/**
 * Begins a sign-in: OpenID Connect Core 1.0 section 3.1.2.1 with PKCE (RFC 7636 section 4). Send the browser to
 * `url` and keep `attempt`, bound to that browser, until it comes back.
 *
 * @throws attempt.redirect-uri-refused; where requests are sent ahead, also attempt.request-refused and platform.*
 */
export async function beginSignIn(
  provider: Provider,
  request: SignInRequest,
): Promise<{ readonly url: string; readonly attempt: Attempt }> {
  const { redirectUri, scope = provider.scope } = request;
  if (!isSecureUrl(redirectUri) || redirectUri.includes("#")) {
    fail("attempt.redirect-uri-refused", { received: quoted(redirectUri) });
  }
  const { platform } = provider.tools;
  const beganAt = Math.floor(platform.now());
  const attempt: Attempt = {
    issuer: provider.issuer,
    clientId: provider.clientId,
    redirectUri,
    scope,
    state: randomText(platform),
    nonce: randomText(platform),
    codeVerifier: randomText(platform),
    beganAt,
    expiresAt: beganAt + attemptLifetimeSeconds,
  };
  return { url: await authorizationUrl(provider, attempt), attempt };
}

/** RFC 6749 3.1: parameters the endpoint's own address carries stay. */
async function authorizationUrl(provider: Provider, attempt: Attempt): Promise<string> {
  const parameters = await requestParameters(provider, attempt);
  const sent = provider.pushesRequests ? await pushRequest(provider, parameters) : parameters;
  const url = new URL(provider.metadata.authorization_endpoint);
  for (const [name, value] of Object.entries(sent)) url.searchParams.set(name, value);
  return url.href;
}

async function requestParameters(
  provider: Provider,
  attempt: Attempt,
): Promise<Readonly<Record<string, string>>> {
  const scopes = attempt.scope.split(" ");
  return {
    ...provider.authorizationParameters,
    response_type: "code",
    client_id: attempt.clientId,
    redirect_uri: attempt.redirectUri,
    scope: scopes.join(provider.deviations.scopeSeparator ?? " "),
    state: attempt.state,
    // Core 3.1.2.1: part of OpenID requests; plain OAuth 2.0 servers may refuse what they do not know.
    ...(scopes.includes("openid") && { nonce: attempt.nonce }),
    code_challenge: await codeChallenge(provider.tools.platform, attempt.codeVerifier),
    code_challenge_method: "S256",
    // Core 11: offline access has to be asked for together with consent.
    ...(scopes.includes("offline_access") && { prompt: "consent" }),
  };
}

/** 256 bits of randomness as 43 characters: as state, nonce and code verifier more than the standards ask for. */
function randomText(platform: Platform): string {
  return encodeBase64url(platform.randomBytes(32));
}
