import { isPlainPath } from "../../platform/index.js";

/** What pages may call of an API: methods, and the parts of a path. */
interface Rule {
  readonly methods: readonly string[];
  readonly parts: readonly string[];
}

const reading = ["GET", "HEAD"];
const form = /^(?:([A-Z]+(?:,[A-Z]+)*) )?(\/[A-Za-z0-9._~$:@!+,;=*-]*(?:\/[A-Za-z0-9._~$:@!+,;=*-]*)*)$/;

/** `/tides/*`, or `POST,DELETE /slots/*`. */
export function isRelayRule(text: string): boolean {
  return readRule(text) !== undefined;
}

function readRule(text: string): Rule | undefined {
  const [, methods, path] = form.exec(text) ?? [];
  if (path === undefined) return undefined;
  const parts = path.split("/").slice(1);
  // A star stands for a whole part; two of them only for all that is left.
  const isWrong = parts.some(
    (part, index) =>
      part === "." ||
      part === ".." ||
      (part.includes("*") && part !== "*" && !(part === "**" && index === parts.length - 1)),
  );
  if (isWrong) return undefined;
  return { methods: methods?.split(",") ?? reading, parts };
}

/**
 * The methods that a path may be called with. It is compared as it stands: what a server behind could read in another way
 * fits no rule.
 */
export function relayedMethods(rules: readonly string[], path: string): readonly string[] {
  if (!isPlainPath(path)) return [];
  const given = path.split("/").slice(1);
  return rulesOf(rules).flatMap(({ methods, parts }) => (fits(parts, given) ? methods : []));
}

/** Read once: they stand in the settings. */
const read = new WeakMap<readonly string[], readonly Rule[]>();

function rulesOf(texts: readonly string[]): readonly Rule[] {
  let rules = read.get(texts);
  if (!rules) {
    rules = texts.flatMap((text) => readRule(text) ?? []);
    read.set(texts, rules);
  }
  return rules;
}

function fits(parts: readonly string[], given: readonly string[]): boolean {
  const isOpen = parts.at(-1) === "**";
  const fixed = isOpen ? parts.slice(0, -1) : parts;
  if (isOpen ? given.length < fixed.length : given.length !== fixed.length) return false;
  return fixed.every((part, index) => (part === "*" ? given[index] !== "" : part === given[index]));
}
