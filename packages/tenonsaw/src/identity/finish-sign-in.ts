import type { Attempt } from "../attempt/index.js";
import type { DeviceRequest, Grant } from "../grant/index.js";
import { parseUrl } from "../platform/index.js";
import { fail, isProblem } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { requireProvider, type Provider } from "../provider/index.js";
import { shapeOf } from "../trace/index.js";
import type { Outcome } from "./settle-outcome.js";

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
    const { settleResponse } = await loadPart(import("./settle-outcome.js"));
    return settleResponse(provider, attempt, readCallback(provider, attempt, callback), onUnused);
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
    const { settleDevice } = await loadPart(import("./settle-outcome.js"));
    return settleDevice(provider, device, signal, onUnused);
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
