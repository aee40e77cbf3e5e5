import { quoted } from "../problem/index.js";
import { isSecretName } from "./secret-names.js";
import type { Answer } from "./leg.js";

const [mostWords, mostLevels] = [8, 4];

/**
 * What an answer that refuses says or is, for people: the texts and numbers of its JSON, the title of a page, or its text. What
 * is, or looks like, a secret is left out. Undefined where it says nothing.
 */
export function wordsIn({ text }: Pick<Answer, "text">): string | undefined {
  const told = parsed(text);
  if (typeof told === "object" && told !== null) {
    const words = [...leavesOf(told, "", 0)].slice(0, mostWords);
    return words.length === 0 ? undefined : `says ${words.join(", ")}`;
  }
  if (text.trim() === "") return undefined;
  if (!/^\s*</.test(text)) return `says ${quoted(masked(text.trim()), 200)}`;
  const title = /<title[^>]{0,100}>([^<]{1,200})/i.exec(text.slice(0, 20_000))?.[1]?.trim();
  return title ? `is a page titled ${quoted(masked(title))}` : "is a page";
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

function* leavesOf(value: unknown, name: string, level: number): Generator<string> {
  if (typeof value !== "object" || value === null) {
    if (value === "" || value === null) return;
    yield `${quoted(name, 60).slice(1, -1)} ${typeof value === "string" ? quoted(masked(value), 200) : JSON.stringify(value)}`;
  } else if (level < mostLevels)
    for (const [each, inner] of Object.entries(value).slice(0, mostWords))
      // In a refusal that is the code of an error.
      if (each === "code" || !isSecretName(each))
        yield* leavesOf(inner, name === "" ? each : `${name}.${each}`, level + 1);
}

/** A long word with digits in it may be a token, a code or a secret. */
function masked(text: string): string {
  return text.replace(/[\w~+=-]{20,}/g, (word) => (/\d/.test(word) ? "…" : word));
}
