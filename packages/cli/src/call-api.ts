import { ProblemError, type Platform } from "tenonsaw";
import { unreachableBecause } from "tenonsaw/trace";

/**
 * One call of an API, no redirect followed.
 *
 * @throws platform.unreachable
 */
export function callApi(platform: Platform, url: string, init: RequestInit): Promise<Response> {
  return reaching(url, () =>
    platform.fetch(url, { ...init, redirect: "manual", signal: platform.deadline(30) }),
  );
}

/** @throws platform.unreachable in place of what `fetch` throws */
export async function reaching(url: string, call: () => Promise<Response>): Promise<Response> {
  try {
    return await call();
  } catch (error) {
    const { cause } = error as { cause?: { code?: string } };
    throw new ProblemError("platform.unreachable", {
      received: `API request to ${new URL(url).origin}: ${cause?.code ?? "no answer within 30 s"}`,
      because: unreachableBecause(error),
      cause: error,
    });
  }
}
