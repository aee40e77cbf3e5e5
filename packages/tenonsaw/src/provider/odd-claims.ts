import type { JsonObject } from "../jose/index.js";
import { isInstant } from "../platform/index.js";
import type { ProblemFinding } from "../problem/index.js";
import { shapeOf } from "../trace/index.js";

/** By name, what a claim has to be. */
export type ClaimRules = readonly (readonly [string, (value: unknown) => boolean])[];

/** What is wrong with the claims of a token, and which of its causes a problem of that has. */
export function oddClaims(
  rules: ClaimRules,
  payload: JsonObject,
): { readonly findings: readonly ProblemFinding[]; readonly because: "kind" | undefined } {
  const odd = rules.filter(([name, holds]) => !holds(payload[name]));
  return {
    findings: odd.map(([path]) => ({ path, message: describe(path, payload[path]) })),
    because: odd.every(([name]) => payload[name] !== undefined) ? "kind" : undefined,
  };
}

function describe(name: string, value: unknown): string {
  if (value === undefined) return "is missing";
  if (!["exp", "iat", "nbf", "auth_time"].includes(name)) return `is ${claimKind(value)}, and must not be`;
  // Milliseconds are as many as seconds thousands of years from now (RFC 7519 section 2, NumericDate).
  if (typeof value === "number" && value > 0 && isInstant(value / 1000))
    return `is ${value}: it has to be seconds since 1970, and looks like milliseconds`;
  return `is ${typeof value === "number" ? String(value) : claimKind(value)}, and has to be a number of seconds since 1970`;
}

/** What stands there, and none of it: it may be about a person. */
export const claimKind = (value: unknown): string =>
  typeof value === "number" ? "a number" : shapeOf(value);
