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

/** Pointers taken apart: they come from settings and code, so there are few. */
const known = new Map<string, readonly string[]>();
const mostKnown = 1000;

function tokensOf(pointer: string): readonly string[] {
  const found = known.get(pointer);
  if (found) return found;
  const tokens = pointer
    .split("/")
    .slice(1)
    .map((token) => token.replaceAll("~1", "/").replaceAll("~0", "~"));
  if (known.size < mostKnown) known.set(pointer, tokens);
  return tokens;
}

/** RFC 6901 section 4: own members only, and no error where the way ends. */
function resolvePointer(pointer: string, document: unknown): unknown {
  let value = document;
  for (const token of tokensOf(pointer)) {
    if (typeof value !== "object" || value === null || !Object.hasOwn(value, token)) return undefined;
    value = (value as Record<string, unknown>)[token];
  }
  return value;
}
