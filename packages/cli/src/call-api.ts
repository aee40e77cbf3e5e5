import { ProblemError, type Platform } from "tenonsaw";
import { unansweredBy, unreachableBecause } from "tenonsaw/trace";

/** An answer is waited for so long, and its body as well. */
const longestSeconds = 30;

/**
 * One call of an API, no redirect followed.
 *
 * @throws platform.unreachable
 */
export function callApi(platform: Platform, url: string, init: RequestInit): Promise<Response> {
  return reaching(platform, url, () =>
    platform.fetch(url, { ...init, redirect: "manual", signal: platform.deadline(longestSeconds) }),
  );
}

/** @throws platform.unreachable in place of what `fetch` throws */
export async function reaching(
  platform: Platform,
  url: string,
  call: () => Promise<Response>,
): Promise<Response> {
  try {
    return await call();
  } catch (error) {
    throw new ProblemError("platform.unreachable", {
      received: `API request to ${new URL(url).origin}: ${unansweredBy(error)}`,
      because: await unreachableBecause(error, platform, url),
      cause: error,
    });
  }
}

/** How a body begins: an API may send more than anybody reads, or never end it. */
export async function bodyOf(
  answer: Response,
  mostCharacters: number,
): Promise<{ readonly text: string; readonly isWhole: boolean }> {
  const reader = answer.body?.getReader();
  const decoder = new TextDecoder();
  let [text, isWhole] = ["", true];
  const giveUp = () => {
    isWhole = false;
    return reader?.cancel().catch(() => undefined);
  };
  const timer = setTimeout(() => void giveUp(), longestSeconds * 1000);
  try {
    for (let part = await reader?.read(); part?.done === false; part = await reader?.read()) {
      text += decoder.decode(part.value, { stream: true });
      if (text.length > mostCharacters) await giveUp();
    }
  } catch {
    // It has stopped in the middle.
    isWhole = false;
  } finally {
    clearTimeout(timer);
  }
  return { text: text.slice(0, mostCharacters), isWhole };
}
