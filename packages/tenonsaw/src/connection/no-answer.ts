import { describeProblem, ProblemError } from "../problem/index.js";
import { unansweredBy, unreachableBecause, type Tools } from "../trace/index.js";

/** Tells of an API that did not answer, and why as far as that is known. */
export async function reportNoAnswer(
  { report, platform }: Tools,
  url: string,
  method: string,
  error: unknown,
): Promise<void> {
  const { origin } = new URL(url);
  const isLate = (error as Partial<Error> | undefined)?.name === "TimeoutError";
  const because = await unreachableBecause(error, platform, url);
  const { title, here } = describeProblem("platform.unreachable", { because });
  const problem = new ProblemError("connection.api-failed", {
    received: `no answer from ${origin}: ${unansweredBy(error)}`,
    because: isLate ? "late" : "no-answer",
    // Why a server cannot be reached is the same whoever it is.
    ...(because !== undefined && { title, ...(here !== undefined && { here }) }),
    cause: error,
  });
  if (typeof error === "object" && error !== null) unanswered.set(error, problem);
  report?.(problem, `${method} at ${origin}`);
}

const unanswered = new WeakMap<object, ProblemError>();

/** What has been reported of a call that had no answer, by the error that its caller got. */
export function unansweredCall(error: unknown): ProblemError | undefined {
  return unanswered.get(error as object);
}
