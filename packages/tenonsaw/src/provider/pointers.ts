import type { JsonObject } from "../jose/index.js";
import type { Pointers } from "./settings-types.js";

/** What stands at the first of the places where something stands that is not empty. */
export function findAt(pointers: Pointers, claims: JsonObject): unknown {
  for (const pointer of typeof pointers === "string" ? [pointers] : pointers) {
    const found = resolvePointer(pointer, claims);
    if (found !== undefined && found !== null && found !== "") return found;
  }
  return undefined;
}

/** RFC 6901 section 4: own members only, and no error where the way ends. */
function resolvePointer(pointer: string, document: unknown): unknown {
  return pointer
    .split("/")
    .slice(1)
    .map((token) => token.replaceAll("~1", "/").replaceAll("~0", "~"))
    .reduce<unknown>((value, token) => {
      if (typeof value !== "object" || value === null || !Object.hasOwn(value, token)) return undefined;
      return (value as Record<string, unknown>)[token];
    }, document);
}
