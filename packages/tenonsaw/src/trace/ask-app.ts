import { limits, readingSeconds, type Platform } from "../platform/index.js";
import { fail } from "../problem/index.js";
import { thrownBy } from "./reports.js";
import type { Tools } from "./tools.js";

/**
 * What somebody else's promise comes to, or after so many seconds what `orElse` throws: whoever waits for it is answered in
 * any case.
 */
export async function inTime<Result>(
  { wait }: Pick<Platform, "wait">,
  seconds: number,
  promise: PromiseLike<Result>,
  orElse: () => never,
): Promise<Result> {
  const over = new AbortController();
  const late = wait(seconds, over.signal)
    .then(() => wait(readingSeconds, over.signal))
    .then(() => (over.signal.aborted ? promise : orElse()));
  try {
    return await Promise.race([promise, late]);
  } finally {
    over.abort();
  }
}

/**
 * What a function of the settings answers, such as `welcome`. One that never does keeps nobody waiting for ever, neither
 * this request nor those that wait for the same answer.
 *
 * @throws server.hook-unusable, and whatever the function throws
 */
export async function askApp<Answer>(
  { platform, report }: Tools,
  name: string,
  ask: () => Answer | PromiseLike<Answer>,
): Promise<Answer> {
  let given: Answer | PromiseLike<Answer>;
  try {
    given = ask();
  } catch (thrown) {
    throw thrownBy(name, thrown);
  }
  if (typeof (given as { readonly then?: unknown } | null | undefined)?.then !== "function") return given;
  let isOver = false;
  const answer = Promise.resolve(given).catch((thrown: unknown) => {
    const error = thrownBy(name, thrown);
    // Why it was silent: nobody else hears of it now.
    if (isOver) report?.(error, `${name}, after its time was over`);
    throw error;
  });
  return inTime(platform, limits.hookSeconds, answer, () => {
    isOver = true;
    return fail("server.hook-unusable", {
      received: `\`${name}\` has not answered for ${limits.hookSeconds} s`,
      expected: "an answer before that",
      because: "silent",
    });
  });
}
