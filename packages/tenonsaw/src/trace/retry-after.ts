import { fail } from "../problem/index.js";
import type { Tools } from "./tools.js";
import type { Answer } from "./leg.js";

/**
 * Whether a server says that it is busy or out (429 and 5xx), and for how many seconds: RFC 9110 section 10.2.3, seconds
 * or a date. Nobody is made to wait for more than a day by it.
 *
 * @param now seconds since the epoch
 */
export async function readUnavailable(
  answer: Answer,
  now: number,
): Promise<{ readonly received: string; readonly retryAfterSeconds?: number } | undefined> {
  const { status, headers } = answer;
  if (status < 500 && status !== 429) return undefined;
  const words = await wordsOf(answer);
  const value = headers.get("retry-after") ?? "";
  const seconds = /^\d{1,9}$/.test(value) ? Number(value) : Date.parse(value) / 1000 - now;
  if (!Number.isFinite(seconds)) return { received: `status ${status}${words}` };
  const retryAfterSeconds = Math.min(86_400, Math.max(0, Math.ceil(seconds)));
  return { received: `status ${status}, again in ${retryAfterSeconds} s${words}`, retryAfterSeconds };
}

/** What an answer that refuses says of itself, to come after its status; where it says nothing, nothing. */
export async function wordsOf(answer: Pick<Answer, "text">): Promise<string> {
  // A page that was left open while the app was put up anew may not have that any more.
  const words = await import("./words-in.js").then(
    ({ wordsIn }) => wordsIn(answer),
    () => undefined,
  );
  return words === undefined ? "" : `, which ${words}`;
}

/**
 * An answer of whoever is busy or out of order says nothing of what was asked.
 *
 * @throws provider.unavailable, or the code that is named
 */
export async function requireAvailable(
  { platform }: Pick<Tools, "platform">,
  leg: string,
  answer: Answer,
  code: "provider.unavailable" | "grant.unavailable" | "jose.key-set-unavailable" = "provider.unavailable",
): Promise<void> {
  const unavailable = await readUnavailable(answer, platform.now());
  if (unavailable) fail(code, { ...unavailable, received: `${leg}: ${unavailable.received}` });
}
