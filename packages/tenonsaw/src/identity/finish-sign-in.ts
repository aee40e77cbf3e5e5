import type { Attempt } from "../attempt/index.js";
import { exchangeCode, type Grant } from "../grant/index.js";
import { fail, isProblem, type Problem } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import { readResponse } from "../response/index.js";
import { fetchUserinfo } from "./fetch-userinfo.js";
import { readProfile, type Identity } from "./identity.js";
import { validateIdToken } from "./validate-id-token.js";

/** How an attempt ended. */
export type Outcome =
  | { readonly kind: "granted"; readonly identity: Identity; readonly grant: Grant }
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
  try {
    const response = await readResponse(provider, attempt, parameters);
    if (response.kind === "declined") return { kind: "declined" };
    const grant = await exchangeCode(provider, attempt, response.code);
    return { kind: "granted", identity: await identify(provider, attempt, grant), grant };
  } catch (error) {
    if (isProblem(error)) return { kind: "failed", problem: error.problem };
    throw error;
  }
}

async function identify(provider: Provider, attempt: Attempt, grant: Grant): Promise<Identity> {
  // Core 3.1.3.3: with `openid` there is always an ID token.
  if (grant.idToken === undefined)
    fail("identity.id-token-missing", { received: "a token answer without one" });
  const idClaims = await validateIdToken(provider, grant.idToken, {
    nonce: attempt.nonce,
    accessToken: grant.accessToken,
  });
  const userinfo = await fetchUserinfo(provider, grant, idClaims.sub);
  // What the signed ID token says stands; userinfo adds to it.
  const claims = { ...userinfo, ...idClaims };
  return { issuer: idClaims.iss, subject: idClaims.sub, profile: readProfile(claims), claims };
}
