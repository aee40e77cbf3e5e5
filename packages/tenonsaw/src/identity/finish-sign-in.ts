import type { Attempt } from "../attempt/index.js";
import { awaitDeviceGrant, exchangeCode, type DeviceRequest, type Grant } from "../grant/index.js";
import { fail, isProblem, type Problem } from "../problem/index.js";
import type { JsonObject } from "../jose/index.js";
import type { Provider } from "../provider/index.js";
import { isSecretName } from "../trace/index.js";
import { readResponse } from "../response/index.js";
import { fetchUserinfo } from "./fetch-userinfo.js";
import type { Identity } from "./identity.js";
import { mapProfile, mapSubject } from "./map-profile.js";
import { validateIdToken } from "./validate-id-token.js";

/** How an attempt ended. */
export type Outcome =
  | {
      readonly kind: "granted";
      readonly identity: Identity;
      readonly grant: Grant;
      /** Callback parameters that deviations.keepCallbackParameters names. The browser brought them. */
      readonly kept: Readonly<Record<string, string>>;
    }
  /** The person said no. */
  | { readonly kind: "declined" }
  | { readonly kind: "failed"; readonly problem: Problem };

/**
 * Finishes a sign-in: reads the response, exchanges the code, validates the ID token and asks userinfo. Whatever
 * goes wrong on the way is a `failed` outcome, not an exception.
 *
 * @param callback the URL the browser came back to, or its query parameters
 */
export async function finishSignIn(
  provider: Provider,
  attempt: Attempt,
  callback: string | URL | URLSearchParams,
): Promise<Outcome> {
  const parameters =
    callback instanceof URLSearchParams ? callback : new URL(callback, attempt.redirectUri).searchParams;
  return conclude(async () => {
    const response = await readResponse(provider, attempt, parameters);
    if (response.kind === "declined") return { kind: "declined" };
    const grant = await exchangeCode(provider, attempt, response.code);
    return concludeGranted(provider, grant, response.kept, attempt.nonce);
  });
}

/**
 * Waits for a sign-in that a person finishes on another device, and validates what came of it: RFC 8628 section 3.4,
 * then as {@link finishSignIn}.
 *
 * @param device what requestDeviceCode returned
 * @param signal ends the waiting, as `failed` with grant.device-ended
 */
export async function finishDeviceSignIn(
  provider: Provider,
  device: DeviceRequest,
  signal?: AbortSignal,
): Promise<Outcome> {
  return conclude(async () => {
    const grant = await awaitDeviceGrant(provider, device, signal);
    return grant ? concludeGranted(provider, grant, {}, undefined) : { kind: "declined" };
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
  nonce: string | undefined,
): Promise<Outcome> {
  const identity = await identify(provider, grant, nonce);
  const { answer: _answer, ...tokens } = grant;
  return { kind: "granted", identity, grant: tokens, kept };
}

async function identify(provider: Provider, grant: Grant, nonce: string | undefined): Promise<Identity> {
  if (!provider.keys) return describeWithoutProof(provider, grant);
  // Core 3.1.3.3: with `openid` there is always an ID token.
  if (grant.idToken === undefined)
    fail("identity.id-token-missing", { received: "a token answer without one" });
  const idClaims = await validateIdToken(provider, grant.idToken, {
    ...(nonce !== undefined && { nonce }),
    accessToken: grant.accessToken,
  });
  const userinfo = await fetchUserinfo(provider, grant, idClaims.sub);
  // What the signed ID token says stands; userinfo adds to it.
  const claims = { ...userinfo, ...idClaims };
  return {
    issuer: idClaims.iss,
    subject: idClaims.sub,
    profile: mapProfile(provider.profile, claims),
    claims,
    isProved: true,
  };
}

/** deviations.noIdToken and identityInTokenAnswer: the token came from the token endpoint, the rest is hearsay. */
async function describeWithoutProof(provider: Provider, grant: Grant): Promise<Identity> {
  const claims = grant.answer ? withoutTokens(grant.answer) : await fetchUserinfo(provider, grant);
  if (!claims) {
    fail("identity.userinfo-refused", {
      received: "no userinfo endpoint in the metadata, and no identity elsewhere",
    });
  }
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
