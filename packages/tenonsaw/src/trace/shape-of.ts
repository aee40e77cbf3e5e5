import { quotedList } from "../problem/index.js";

/** What the app has answered, by its kind and its members' names: the values may be anybody's. */
export function shapeOf(value: unknown): string {
  if (Array.isArray(value)) return "a list";
  if (value instanceof Promise) return "a promise";
  const kind = Object.prototype.toString.call(value).slice(8, -1);
  if (typeof value === "object" && value !== null && kind !== "Object")
    return `something of the kind ${kind}`;
  if (typeof value === "object" && value !== null)
    return `an object with ${quotedList(Object.keys(value)) ?? "no members"}`;
  if (typeof value === "string")
    return value === "" ? "an empty text" : `a text of ${value.length} characters`;
  return ["number", "boolean", "undefined"].includes(typeof value) || value === null
    ? String(value)
    : `a ${typeof value}`;
}
