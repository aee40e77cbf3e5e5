import { ProblemError, type CauseOf } from "../problem/index.js";

/**
 * What the parts are about has to be a session: a promise of one has nothing that they look for, and neither has the function that makes it.
 *
 * @throws page.session-unclear
 */
export function requireSession(session: unknown): void {
  if (typeof (session as { readonly subscribe?: unknown } | null | undefined)?.subscribe === "function")
    return;
  const received = session instanceof Promise ? "a promise" : session === null ? "null" : typeof session;
  throw sessionUnclear("the page's session: no promise of it, nor the function that makes it", received);
}

/** With what is expected in it: whoever writes a page reads it in the console, where the catalogue's texts are not. */
export function sessionUnclear(
  expected: string,
  received: string,
  because?: CauseOf<"page.session-unclear">,
): ProblemError {
  return new ProblemError("page.session-unclear", { expected, received, because });
}
