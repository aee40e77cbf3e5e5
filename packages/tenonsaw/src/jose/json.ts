import { fail } from "../problem/index.js";

/** A JSON object, its members not looked at yet. */
export type JsonObject = Readonly<Record<string, unknown>>;

const deepest = 32;

/**
 * Reads a JSON object strictly: every member name once (RFC 7519 section 4, the stricter of its two choices) and
 * at most 32 levels deep. Members named `__proto__` and the like are plain own members.
 *
 * @throws jose.not-json, jose.duplicate-member
 */
export function parseJsonObject(text: string, what: string): JsonObject {
  let value: unknown;
  // What is long may be built to take long: how deep it is can be seen for less than it costs to read it.
  if (text.length > 4096 && isDeep(text))
    fail("jose.not-json", { received: `${what}: nested deeper than ${deepest}` });
  try {
    value = JSON.parse(text);
  } catch (error) {
    fail("jose.not-json", { received: `${what}: text that is not JSON`, cause: error });
  }
  if (typeof value !== "object" || value === null || Array.isArray(value)) {
    fail("jose.not-json", { received: `${what}: JSON, but not an object` });
  }
  if (!isPlainlySound(text, value as JsonObject)) inspect(text, what);
  return value as JsonObject;
}

/**
 * Whether it can be seen at a glance that no name repeats and nothing is deep: true for nearly every token, and
 * where it is false the text is walked through. Without escapes, and without white space behind quotes, each name
 * in the text ends in `":`; so there are as many members as such endings only if none was dropped for repeating.
 */
function isPlainlySound(text: string, value: JsonObject): boolean {
  if (text.includes("\\")) return false;
  let endings = 0;
  for (let index = text.indexOf('"'); index >= 0; index = text.indexOf('"', index + 1)) {
    const next = text.charCodeAt(index + 1);
    if (next <= 0x20) return false;
    if (next === 0x3a) endings += 1;
  }
  return endings === countMembers(value, 1);
}

/** Members of an object and all that is in it; NaN, which equals nothing, where it is too deep. */
function countMembers(value: object, depth: number): number {
  if (depth > deepest) return Number.NaN;
  const isList = Array.isArray(value);
  const members: readonly unknown[] = isList ? value : Object.values(value);
  let count = isList ? 0 : members.length;
  for (const member of members)
    if (typeof member === "object" && member !== null) count += countMembers(member, depth + 1);
  return count;
}

/** Whether JSON is nested too deeply; of what is no JSON it may say anything. */
function isDeep(text: string): boolean {
  let depth = 0;
  for (let index = 0; index < text.length; index += 1) {
    // Brackets and braces differ in one bit, which quotes have.
    const character = text.charCodeAt(index) | 0x20;
    if (character === 0x22) {
      // A string is over at the next quote, unless something before that escapes it; where there is none, -1 is behind every text.
      // What is looked for in all of the text is kept out of the loop: a compiled one looks for it with each quote.
      const end = text.indexOf('"', index + 1) >>> 0;
      index = text.charCodeAt(end - 1) === 0x5c ? endOfString(text, index) - 1 : end;
    } else if (character === 0x7b) depth += 1;
    else if (character === 0x7d) depth -= 1;
    if (depth > deepest) return true;
  }
  return false;
}

/** Walks valid JSON and refuses repeated names and deep nesting. */
function inspect(text: string, what: string): void {
  const names: (Set<string> | undefined)[] = [];
  let expectsName = false;
  for (let index = 0; index < text.length; index += 1) {
    const character = text[index];
    if (character === "{" || character === "[") {
      names.push(character === "{" ? new Set() : undefined);
      expectsName = character === "{";
      if (names.length > deepest)
        fail("jose.not-json", { received: `${what}: nested deeper than ${deepest}` });
    } else if (character === "}" || character === "]") {
      names.pop();
      expectsName = false;
    } else if (character === ",") {
      expectsName = names.at(-1) !== undefined;
    } else if (character === '"') {
      const end = endOfString(text, index);
      if (expectsName) {
        const name = JSON.parse(text.slice(index, end)) as string;
        const seen = names.at(-1);
        if (seen?.has(name))
          fail("jose.duplicate-member", { received: `${what}: ${JSON.stringify(name)} twice` });
        seen?.add(name);
        expectsName = false;
      }
      index = end - 1;
    }
  }
}

/** The position behind the closing quote of the string that opens at `start`. */
function endOfString(text: string, start: number): number {
  let index = start + 1;
  while (index < text.length && text[index] !== '"') index += text[index] === "\\" ? 2 : 1;
  return index + 1;
}

/** The value, which is from now on the same for everybody who holds it. */
export function freezeDeeply<Value extends object>(value: Value): Value {
  if (Object.isFrozen(value)) return value;
  for (const name in value) {
    const member: unknown = value[name];
    if (typeof member === "object" && member !== null) freezeDeeply(member);
  }
  return Object.freeze(value);
}
