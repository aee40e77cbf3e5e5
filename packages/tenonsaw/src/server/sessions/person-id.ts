import { limits } from "../../platform/index.js";
import { fail } from "../../problem/index.js";
import { shapeOf } from "../../trace/index.js";

const control = /\p{Cc}/u;

/** Whether something can be an app's own ID of a person. */
export function isPersonId(value: unknown): value is string {
  return (
    typeof value === "string" && value.length > 0 && value.length <= limits.personId && !control.test(value)
  );
}

/** @throws session.id-unusable */
export function requireSessionId(value: unknown): string {
  if (typeof value === "string" && value !== "") return value;
  return fail("session.id-unusable", { received: shapeOf(value) });
}

/** What came in the place of such an ID. */
export function describeId(value: unknown): string {
  const isControlled = typeof value === "string" && control.test(value);
  return `${shapeOf(value)}${isControlled ? ", a control character among them" : ""}`;
}

/**
 * An ID that the app hands over. A store that is asked for nobody in particular finds everybody: what is left out, as where
 * somebody is not signed in, must not be that.
 *
 * @throws session.person-unusable
 */
export function requirePersonId(value: unknown): string {
  if (isPersonId(value)) return value;
  const isWhole = typeof value === "object" && value !== null && ("id" in value || "person" in value);
  return fail("session.person-unusable", {
    received: describeId(value),
    because: isWhole ? "whole" : "argument",
  });
}
