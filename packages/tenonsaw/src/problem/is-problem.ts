import type { ProblemCode } from "./catalogue.js";
import type { ProblemError } from "./problem.js";

/** What marks a problem: known to every copy of this library in one program, such as a bundle's and an app's own. */
export const problemMark = Symbol.for("tenonsaw problem");

/** Whether something thrown is a catalogued problem, or one of these. */
export function isProblem(error: unknown, ...codes: readonly ProblemCode[]): error is ProblemError {
  if (typeof error !== "object" || error === null || !(problemMark in error)) return false;
  return codes.length === 0 || codes.includes((error as ProblemError).problem.code);
}
