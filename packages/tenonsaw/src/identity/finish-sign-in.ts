import type { Attempt } from "../attempt/index.js";
import { awaitDeviceGrant, exchangeCode, type DeviceRequest, type Grant } from "../grant/index.js";
import { parseUrl, endAfter } from "../platform/index.js";
import { fail, isProblem, type Problem } from "../problem/index.js";
import type { JsonObject } from "../jose/index.js";
import { requireProvider, type Provider } from "../provider/index.js";
import { check, isSecretName, shapeOf } from "../trace/index.js";
import { readResponse, unpackResponse } from "../response/index.js";
import { fetchUserinfo } from "./fetch-userinfo.js";
import type { Identity } from "./identity.js";
import { mapProfile, mapSubject } from "./map-profile.js";
import { validateIdToken, type Expectation, type IdTokenClaims } from "./validate-id-token.js";

/** How an attempt ended. */
export type Outcome =
  | {
      readonly kind: "granted";
      readonly identity: Identity;
      readonly grant: Grant;
      /** Callback parameters that deviations.keepCallbackParameters names. The browser brought them. */
      readonly kept: Readonly<Record<string, string>>;
    }
  /** The person said no, or the provider did not allow it (RFC 6749 section 4.1.2.1 has one word for both). */
  | {
      readonly kind: "declined";
      /** The error and its description, as the provider sent them, quoted. */
      readonly said?: string;
    }
  | { readonly kind: "failed"; readonly problem: Problem };

/**
 * Finishes a sign-in: reads the response, exchanges the code, validates the ID token and asks userinfo. Whatever
 * goes wrong on the way is a `failed` outcome, not an exception.
 *
 * @param callback the URL the browser came back to, or its query parameters
 * @param onUnused is handed what was granted where the sign-in fails after that: nobody is going to use it, see revokeGrant
 */
export async function finishSignIn(
  provider: Provider,
  attempt: Attempt,
  callback: string | URL | URLSearchParams,
  onUnused?: (grant: Grant) => void,
): Promise<Outcome> {
  return conclude(async () => {
    requireProvider(provider);
    requireAttempt(attempt);
    const parameters = await unpackResponse(provider, readCallback(provider, attempt, callback));
    const response = await readResponse(provider, attempt, parameters);
    if (response.kind === "declined") return response;
    const { code, idToken, accessToken } = response;
    const front =
      idToken === undefined
        ? undefined
        : await validateIdToken(provider, idToken, {
            ...expectationOf(attempt),
            isFromBrowser: true,
            state: attempt.state,
            ...(code !== undefined && { code }),
            ...(accessToken !== undefined && { accessToken }),
          });
    const grant =
      code === undefined
        ? browserGrant(provider, attempt, response)
        : await exchangeCode(provider, attempt, code);
    return concludeGranted(provider, grant, response.kept, expectationOf(attempt), front, onUnused);
  });
}

/**
 * Whatever an attempt was kept in may have lost it.
 *
 * @throws response.state-altered
 */
export function requireAttempt(attempt: { readonly state?: unknown } | null | undefined): void {
  if (typeof attempt?.state !== "string")
    fail("response.state-altered", { received: shapeOf(attempt), because: "no-attempt" });
}

/** @throws response.empty */
export function callbackUrl(callback: unknown, redirectUri: string): URL {
  const isAddress = typeof callback === "string" || callback instanceof URL;
  const url = isAddress ? parseUrl(String(callback), redirectUri) : undefined;
  return url ?? fail("response.empty", { received: shapeOf(callback), because: "no-address" });
}

/** The parameters of a callback, from where the response mode puts them. */
function readCallback(
  { responseMode }: Provider,
  { redirectUri }: Attempt,
  callback: string | URL | URLSearchParams,
): URLSearchParams {
  if (callback instanceof URLSearchParams) return callback;
  const url = callbackUrl(callback, redirectUri);
  return responseMode.startsWith("fragment") ? new URLSearchParams(url.hash.slice(1)) : url.searchParams;
}

function expectationOf({ nonce, maxAge, acrValues }: Attempt): Expectation {
  return { nonce, ...(maxAge !== undefined && { maxAge }), ...(acrValues && { acrValues }) };
}

/** What came through the browser alone: an access token, or none (OpenID Connect Core 1.0 section 3.2.2.5). */
function browserGrant(
  { issuer, clientId, tools }: Provider,
  { scope }: Attempt,
  response: {
    readonly accessToken?: string;
    readonly expiresIn?: number;
    readonly scope?: string;
    readonly idToken?: string;
  },
): Grant {
  const { accessToken = "", expiresIn, idToken } = response;
  const obtainedAt = Math.floor(tools.platform.now());
  return {
    issuer,
    clientId,
    accessToken,
    scope: accessToken === "" ? "" : (response.scope ?? scope),
    obtainedAt,
    ...(expiresIn !== undefined && { expiresAt: endAfter(expiresIn, obtainedAt) }),
    ...(idToken !== undefined && { idToken }),
  };
}

/**
 * Waits for a sign-in that a person finishes on another device, and validates what came of it: RFC 8628 section 3.4,
 * then as {@link finishSignIn}.
 *
 * @param device what requestDeviceCode returned
 * @param signal ends the waiting, as `failed` with grant.device-ended
 * @param onUnused as with finishSignIn
 */
export async function finishDeviceSignIn(
  provider: Provider,
  device: DeviceRequest,
  signal?: AbortSignal,
  onUnused?: (grant: Grant) => void,
): Promise<Outcome> {
  return conclude(async () => {
    const grant = await awaitDeviceGrant(provider, device, signal);
    return grant ? concludeGranted(provider, grant, {}, {}, undefined, onUnused) : { kind: "declined" };
  });
}

async function conclude(work: () => Promise<Outcome>): Promise<Outcome> {
  try {
    return await work();
  } catch (error) {
    if (isProblem(error)) return { kind: "failed", problem: error.problem };
    throw error;
  }
}

async function concludeGranted(
  provider: Provider,
  grant: Grant,
  kept: Readonly<Record<string, string>>,
  expected: Expectation,
  front: IdTokenClaims | undefined,
  onUnused: ((grant: Grant) => void) | undefined,
): Promise<Outcome> {
  const { answer: _answer, ...tokens } = grant;
  try {
    const identity = await identify(provider, grant, expected, front);
    return { kind: "granted", identity, grant: tokens, kept };
  } catch (error) {
    try {
      onUnused?.(tokens);
    } catch (thrown) {
      // Why it failed counts for more.
      provider.tools.report?.(thrown, "handing over tokens that nobody is going to use");
    }
    throw error;
  }
}

async function identify(
  provider: Provider,
  grant: Grant,
  expected: Expectation,
  front: IdTokenClaims | undefined,
): Promise<Identity> {
  if (!provider.keys) return describeWithoutProof(provider, grant);
  const idClaims = await settleClaims(provider, grant, expected, front);
  // Core 5.3: userinfo takes an access token.
  const userinfo = grant.accessToken === "" ? undefined : await fetchUserinfo(provider, grant, idClaims.sub);
  // What the signed ID token says stands; userinfo adds to it.
  const claims = await withForeignClaims(provider, { ...userinfo, ...idClaims });
  return {
    issuer: idClaims.iss,
    subject: idClaims.sub,
    profile: mapProfile(provider.profile, claims),
    claims,
    isProved: true,
  };
}

/** With the claims that others vouch for, where there are such: few providers have them. */
export async function withForeignClaims(provider: Provider, claims: JsonObject): Promise<JsonObject> {
  if (!("_claim_names" in claims) && !("_claim_sources" in claims)) return claims;
  return (await import("./foreign-claims.js")).readForeignClaims(provider, claims);
}

/** The ID token of the token endpoint, held against the one that came through the browser, if any. */
async function settleClaims(
  provider: Provider,
  grant: Grant,
  expected: Expectation,
  front: IdTokenClaims | undefined,
): Promise<IdTokenClaims> {
  if (front && !provider.responseType.includes("code")) return front;
  // Core 3.1.3.3: with `openid` there is always an ID token.
  if (grant.idToken === undefined)
    fail("identity.id-token-missing", { received: "a token answer without one" });
  const { accessToken } = grant;
  const back = await validateIdToken(provider, grant.idToken, { ...expected, accessToken });
  if (!front) return back;
  // Core 3.3.3.6: issuer and subject are the same, and so is what both say of the authentication.
  const same = ["iss", "sub", "auth_time", "acr"].filter((name) => name in front && name in back);
  const differing = same.filter((name) => JSON.stringify(front[name]) !== JSON.stringify(back[name]));
  check(provider.tools, "identity.channels-differ", differing.length === 0, () => ({
    received:
      differing.length === 0 ? "the same in both" : `two ID tokens that differ in ${differing.join(", ")}`,
  }));
  // What only one of them says is said all the same (3.3.3.6).
  return { ...front, ...back };
}

/** deviations.noIdToken and identityInTokenAnswer: the token came from the token endpoint, the rest is hearsay. */
export async function describeWithoutProof(provider: Provider, grant: Grant): Promise<Identity> {
  const told = grant.answer ? withoutTokens(grant.answer) : await fetchUserinfo(provider, grant);
  if (!told) {
    fail("identity.userinfo-refused", {
      received: "no userinfo endpoint in the metadata, and no identity elsewhere",
      because: "no-endpoint",
    });
  }
  const claims = await withForeignClaims(provider, told);
  const subject = mapSubject(provider.profile, claims);
  return {
    issuer: provider.issuer,
    subject,
    profile: mapProfile(provider.profile, claims),
    claims,
    isProved: false,
  };
}

function withoutTokens(answer: JsonObject): JsonObject {
  return Object.fromEntries(Object.entries(answer).filter(([name]) => !isSecretName(name)));
}
