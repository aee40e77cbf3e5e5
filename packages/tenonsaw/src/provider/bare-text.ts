import * as v from "valibot";

/** What a copied value has that is none of its own: around it, or in its place. Undefined where there is nothing. */
export function strayOf(text: string): "white-space" | "quotes" | "variable" | "placeholder" | undefined {
  if (text !== text.trim()) return "white-space";
  if (/^(["'`]).*\1$/.test(text)) return "quotes";
  if (/\$\{.*\}|^(\$\w+|%\w+%|\{\{.*\}\})$/.test(text)) return "variable";
  const isPlaceholder = /^<.*>$|^(x{3,}|\*+|\.+)$|^your[ _-]|^(todo|changeme)$/i;
  return isPlaceholder.test(text) ? "placeholder" : undefined;
}

export const isBare = v.check(
  (text: string) => strayOf(text) === undefined,
  "must be the value itself, and nothing around it or in its place",
);
/** What the other side has given and compares character by character: with nothing that came along with copying. */
export const bareText = v.pipe(v.string(), v.minLength(1), isBare);
/** Words for people: all but the name of a value that nothing has put there. */
export const words = v.pipe(
  v.string(),
  v.minLength(1),
  v.check((text) => strayOf(text) !== "variable", "must be the words themselves"),
);
