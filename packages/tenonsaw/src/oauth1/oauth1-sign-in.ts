import { attemptLifetimeSeconds } from "../attempt/index.js";
import {
  callbackUrl,
  mapProfile,
  mapSubject,
  parseClaims,
  requireAttempt,
  type Identity,
  type Outcome,
} from "../identity/index.js";
import type { JsonObject } from "../jose/index.js";
import { isSecureUrl, limits } from "../platform/index.js";
import { fail, isProblem, quoted, quotedList } from "../problem/index.js";
import { requireTexts } from "../provider/index.js";
import {
  check,
  checkSecret,
  isSecretName,
  requireAvailable,
  requireFit,
  sendLeg,
  wordsOf,
} from "../trace/index.js";
import { askForCredentials } from "./ask-for-credentials.js";
import { requireOAuth1, type OAuth1Provider } from "./open-oauth1-provider.js";
import { signOAuth1Request, type OAuth1Token } from "./sign-oauth1-request.js";

/** One trip to a provider of OAuth 1.0a. Plain data, and secret until it is over. */
export interface OAuth1Attempt {
  readonly issuer: string;
  readonly clientId: string;
  readonly redirectUri: string;
  /** The identifier of the temporary credentials, which comes back with the browser. */
  readonly state: string;
  readonly tokenSecret: string;
  /** Seconds since the epoch. */
  readonly beganAt: number;
  readonly expiresAt: number;
}

/**
 * Begins a sign-in: RFC 5849 sections 2.1 and 2.2. Send the browser to `url` and keep `attempt`, bound to that browser,
 * until it comes back.
 *
 * @throws provider.not-open, attempt.redirect-uri-refused, attempt.parameters-refused, oauth1.*, grant.unavailable, platform.*
 */
export async function beginOAuth1SignIn(
  provider: OAuth1Provider,
  request: { readonly redirectUri: string },
): Promise<{ readonly url: string; readonly attempt: OAuth1Attempt }> {
  requireOAuth1(provider);
  requireFit(
    request,
    (given) => typeof given === "object",
    "where the browser comes back to: { redirectUri }",
  );
  const { redirectUri } = request;
  requireTexts({ redirectUri });
  if (!isSecureUrl(redirectUri) || redirectUri.includes("#"))
    fail("attempt.redirect-uri-refused", { received: quoted(redirectUri) });
  const { issuer, clientId, tools } = provider;
  const beganAt = Math.floor(tools.platform.now());
  const given = await askForCredentials(
    provider,
    "temporary credentials request",
    provider.temporaryCredentialsEndpoint,
    undefined,
    [["oauth_callback", redirectUri]],
  );
  // 2.1: a server that does not confirm the callback is of the version in which attempts could be planted on others.
  check(tools, "oauth1.callback-unconfirmed", given.further["oauth_callback_confirmed"] === "true", () => ({
    received: `oauth_callback_confirmed ${quoted(given.further["oauth_callback_confirmed"])}`,
  }));
  if (given.tokenSecret.length > limits.temporarySecret)
    fail("oauth1.answer-refused", { received: `a token secret of ${given.tokenSecret.length} characters` });
  const url = new URL(provider.authorizationEndpoint);
  url.searchParams.set("oauth_token", given.token);
  const attempt = {
    issuer,
    clientId,
    redirectUri,
    state: given.token,
    tokenSecret: given.tokenSecret,
    beganAt,
    expiresAt: beganAt + attemptLifetimeSeconds,
  };
  return { url: url.href, attempt };
}

/**
 * The identifier of the temporary credentials that a callback carries, before any attempt is known: used to look the
 * attempt up.
 *
 * @throws response.empty, response.parameter-duplicated, response.state-missing
 */
export function readOAuth1Token(provider: OAuth1Provider, parameters: URLSearchParams): string {
  const { declinedParameter = "" } = provider;
  const names = ["oauth_token", "oauth_verifier", declinedParameter].filter((name) => parameters.has(name));
  if (names.length === 0) fail("response.empty", { received: "no response parameters" });
  const doubled = names.filter((name) => parameters.getAll(name).length > 1);
  if (doubled.length > 0)
    fail("response.parameter-duplicated", { received: `${doubled.join(", ")} more than once` });
  const token = parameters.get("oauth_token") ?? parameters.get(declinedParameter);
  if (token === null || token === "")
    fail("response.state-missing", { received: names.join(", "), expected: "oauth_token" });
  return token;
}

/**
 * Finishes a sign-in: RFC 5849 sections 2.2 and 2.3, then asks who it is. Whatever goes wrong on the way is a `failed`
 * outcome, not an exception.
 *
 * @param callback the URL the browser came back to, or its query parameters
 */
export async function finishOAuth1SignIn(
  provider: OAuth1Provider,
  attempt: OAuth1Attempt,
  callback: string | URL | URLSearchParams,
): Promise<Outcome> {
  try {
    requireOAuth1(provider);
    requireAttempt(attempt);
    const parameters =
      callback instanceof URLSearchParams
        ? callback
        : callbackUrl(callback, attempt.redirectUri).searchParams;
    return await finish(provider, attempt, parameters);
  } catch (error) {
    if (isProblem(error)) return { kind: "failed", problem: error.problem };
    throw error;
  }
}

async function finish(
  provider: OAuth1Provider,
  attempt: OAuth1Attempt,
  parameters: URLSearchParams,
): Promise<Outcome> {
  const { tools, issuer, clientId, declinedParameter } = provider;
  await checkSecret(tools, "response.state-altered", readOAuth1Token(provider, parameters), attempt.state);
  const obtainedAt = Math.floor(tools.platform.now());
  check(tools, "response.attempt-too-old", tools.platform.now() < attempt.expiresAt, () => ({
    received: `${Math.round(tools.platform.now() - attempt.beganAt)} s since it began`,
  }));
  if (declinedParameter !== undefined && parameters.has(declinedParameter)) return { kind: "declined" };
  // 2.2: the verifier proves that who comes back is who agreed.
  const verifier = parameters.get("oauth_verifier") ?? "";
  check(tools, "oauth1.verifier-missing", verifier !== "", () => ({
    received: quotedList([...parameters.keys()]) ?? "(none)",
  }));
  const temporary = { token: attempt.state, tokenSecret: attempt.tokenSecret };
  const given = await askForCredentials(
    provider,
    "token credentials request",
    provider.tokenEndpoint,
    temporary,
    [["oauth_verifier", verifier]],
  );
  const grant = {
    issuer,
    clientId,
    accessToken: given.token,
    tokenSecret: given.tokenSecret,
    scope: "",
    obtainedAt,
  };
  return { kind: "granted", identity: await identify(provider, given, given.further), grant, kept: {} };
}

/** Hearsay, as with every provider without ID tokens: nothing proves that this sign-in was meant for this app. */
async function identify(
  provider: OAuth1Provider,
  token: OAuth1Token,
  further: Readonly<Record<string, string>>,
): Promise<Identity> {
  const isAsked = provider.userinfoEndpoint !== undefined;
  const claims = isAsked ? await askWho(provider, token) : withoutSecrets(further);
  if (!isAsked && Object.keys(claims).length === 0)
    fail("identity.userinfo-refused", {
      received: "credentials and nothing else",
      because: "no-endpoint",
      here: "Set `userinfoEndpoint`.",
    });
  return {
    issuer: provider.issuer,
    subject: mapSubject(provider.profile, claims),
    profile: mapProfile(provider.tools, provider.profile, claims),
    claims,
    isProved: false,
  };
}

async function askWho(provider: OAuth1Provider, token: OAuth1Token): Promise<JsonObject> {
  const { userinfoEndpoint = "", tools, timeoutSeconds } = provider;
  const request = { method: "GET", url: userinfoEndpoint, headers: new Headers() };
  const signed = await signOAuth1Request(provider, token, request);
  const authorization = signed.headers.get("authorization");
  const answer = await sendLeg(tools, {
    station: "oauth1",
    leg: "userinfo request",
    url: signed.url,
    ...(authorization !== null && { headers: { authorization } }),
    timeoutSeconds,
  });
  await requireAvailable(tools, "userinfo request", answer);
  if (answer.status !== 200)
    fail("identity.userinfo-refused", {
      received: `status ${answer.status}${await wordsOf(answer)}`,
      here: "Compare `userinfoEndpoint`, `signatureMethod` and `transmission` with what its API takes.",
    });
  return parseClaims(answer.text, answer.headers.get("content-type") ?? "no content type");
}

function withoutSecrets(members: Readonly<Record<string, string>>): JsonObject {
  return Object.fromEntries(Object.entries(members).filter(([name]) => !isSecretName(name)));
}
