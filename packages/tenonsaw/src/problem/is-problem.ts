import type { ProblemCode } from "./catalogue.js";
import { problemMark } from "./mark.js";
import type { ProblemError } from "./problem.js";

/** Whether something thrown is a catalogued problem, or one of these. */
export function isProblem(error: unknown, ...codes: readonly ProblemCode[]): error is ProblemError {
  if (typeof error !== "object" || error === null || !(problemMark in error)) return false;
  return codes.length === 0 || codes.includes((error as ProblemError).problem.code);
}
