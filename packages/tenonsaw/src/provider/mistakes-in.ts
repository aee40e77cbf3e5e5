import * as v from "valibot";
import type { ProblemFinding } from "../problem/index.js";

/** What a schema says of an answer's members, without what stands in them: it may be a secret. */
export function mistakesIn(issues: readonly v.BaseIssue<unknown>[]): readonly ProblemFinding[] {
  return issues.map((issue) => ({
    path: v.getDotPath(issue) ?? "(answer)",
    message: issue.received === "undefined" ? "is missing" : `must not be ${kindOf(issue.input)}`,
  }));
}

function kindOf(value: unknown): string {
  if (Array.isArray(value)) return "a list";
  if (value === null || value === "") return value === null ? "null" : "empty";
  return typeof value === "string" ? "a text with such characters, or of such a length" : `a ${typeof value}`;
}
