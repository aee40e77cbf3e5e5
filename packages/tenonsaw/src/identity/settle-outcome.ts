import type { Attempt } from "../attempt/index.js";
import { awaitDeviceGrant, exchangeCode, type DeviceRequest, type Grant } from "../grant/index.js";
import { endAfter } from "../platform/index.js";
import { fail, type Problem } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import type { JsonObject } from "../jose/index.js";
import type { Provider } from "../provider/index.js";
import { check, isSecretName } from "../trace/index.js";
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

/** Reads a callback's parameters, exchanges the code, validates the ID token and asks userinfo. */
export async function settleResponse(
  provider: Provider,
  attempt: Attempt,
  packed: URLSearchParams,
  onUnused?: (grant: Grant) => void,
): Promise<Outcome> {
  const parameters = await unpackResponse(provider, packed);
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
}

/** Waits until a person has answered on another device. */
export async function settleDevice(
  provider: Provider,
  device: DeviceRequest,
  signal?: AbortSignal,
  onUnused?: (grant: Grant) => void,
): Promise<Outcome> {
  const grant = await awaitDeviceGrant(provider, device, signal);
  return grant ? concludeGranted(provider, grant, {}, {}, undefined, onUnused) : { kind: "declined" };
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
    profile: mapProfile(provider.tools, provider.profile, claims),
    claims,
    isProved: true,
  };
}

/** With the claims that others vouch for, where there are such: few providers have them. */
export async function withForeignClaims(provider: Provider, claims: JsonObject): Promise<JsonObject> {
  if (!("_claim_names" in claims) && !("_claim_sources" in claims)) return claims;
  return (await loadPart(import("./foreign-claims.js"))).readForeignClaims(provider, claims);
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
    profile: mapProfile(provider.tools, provider.profile, claims),
    claims,
    isProved: false,
  };
}

function withoutTokens(answer: JsonObject): JsonObject {
  return Object.fromEntries(Object.entries(answer).filter(([name]) => !isSecretName(name)));
}
