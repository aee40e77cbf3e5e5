import { limits } from "../../platform/index.js";

/** Whether something can be an app's own ID of a person. */
export function isPersonId(value: unknown): value is string {
  return (
    typeof value === "string" && value.length > 0 && value.length <= limits.personId && !/\p{Cc}/u.test(value)
  );
}
