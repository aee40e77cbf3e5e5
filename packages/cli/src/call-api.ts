import { ProblemError, type Platform } from "tenonsaw";

/**
 * One call of an API, no redirect followed.
 *
 * @throws platform.unreachable
 */
export async function callApi(platform: Platform, url: string, init: RequestInit): Promise<Response> {
  try {
    return await platform.fetch(url, { ...init, redirect: "manual", signal: platform.deadline(30) });
  } catch (error) {
    const { cause } = error as { cause?: { code?: string } };
    throw new ProblemError("platform.unreachable", {
      received: `API request to ${new URL(url).origin}: ${cause?.code ?? "no answer within 30 s"}`,
      cause: error,
    });
  }
}
