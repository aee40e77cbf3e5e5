import { catalogue, type CatalogueEntry, type ProblemCode } from "tenonsaw/problem";
import type { Explanation } from "./explanation.js";

export function isProblemCode(text: string): text is ProblemCode {
  return Object.hasOwn(catalogue, text);
}

/** Explains a problem by its code, as it stands in the catalogue. */
export function explainProblem(code: ProblemCode): Explanation {
  const entry: CatalogueEntry = catalogue[code];
  const part = (name: string, value: string | undefined, meaning: string) =>
    value === undefined ? [] : [{ name, value, meaning }];
  return {
    kind: "problem",
    summary: entry.title,
    parts: [
      ...part("code", code, "stable: rely on it in code and tests"),
      ...part("expected", entry.expected, "what should have come"),
      ...part("here", entry.here, "what to change in your app"),
      ...part("at the provider", entry.atProvider, "what to change in the provider's console"),
      ...Object.entries(entry.causes ?? {}).flatMap(([name, { title, here, atProvider }]) =>
        part(`because ${name}`, [title, here ?? atProvider].filter(Boolean).join(": "), "one of its causes"),
      ),
      ...part("standard", entry.section, "where it is asked for"),
    ],
    findings: [],
    judgements: [],
  };
}
