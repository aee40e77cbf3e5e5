import type { Answer } from "./send-leg.js";

/**
 * Whether a server says that it is busy or out (429 and 5xx), and for how many seconds: RFC 9110 section 10.2.3, seconds
 * or a date. Nobody is made to wait for more than a day by it.
 *
 * @param now seconds since the epoch
 */
export function readUnavailable(
  { status, headers }: Pick<Answer, "status" | "headers">,
  now: number,
): { readonly received: string; readonly retryAfterSeconds?: number } | undefined {
  if (status < 500 && status !== 429) return undefined;
  const value = headers.get("retry-after") ?? "";
  const seconds = /^\d{1,9}$/.test(value) ? Number(value) : Date.parse(value) / 1000 - now;
  if (!Number.isFinite(seconds)) return { received: `status ${status}` };
  const retryAfterSeconds = Math.min(86_400, Math.max(0, Math.ceil(seconds)));
  return { received: `status ${status}, again in ${retryAfterSeconds} s`, retryAfterSeconds };
}
