import { quotedList } from "../problem/index.js";

/** What a value is, whoever's realm it is from: `Object` for a plain one or one of somebody's class, `Array`, `Promise`, `Error`. */
export function tagOf(value: unknown): string {
  return Object.prototype.toString.call(value).slice(8, -1);
}

/** What the app has answered, by its kind and its members' names: the values may be anybody's. */
export function shapeOf(value: unknown): string {
  if (typeof value === "string")
    return value === "" ? "an empty text" : `a text of ${value.length} characters`;
  if (["number", "boolean", "undefined"].includes(typeof value) || value === null) return String(value);
  if (typeof value !== "object") return `a ${typeof value}`;
  const kind = tagOf(value);
  if (kind === "Array") return "a list";
  if (kind === "Promise") return "a promise";
  return kind === "Object"
    ? `an object with ${quotedList(Object.keys(value)) ?? "no members"}`
    : `something of the kind ${kind}`;
}
