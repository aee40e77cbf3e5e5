import type { Explanation } from "./explanation.js";
import { errorMeanings, tokenErrorMeanings } from "./meanings.js";

export function isErrorCode(text: string): boolean {
  return Object.hasOwn(errorMeanings, text) || Object.hasOwn(tokenErrorMeanings, text);
}

/** Explains an error code of the standards by itself: which endpoint says it, and what it means there. */
export function explainErrorCode(error: string): Explanation {
  const places = [
    [
      "way back",
      errorMeanings[error],
      "with the browser (RFC 6749, 4.1.2.1; OpenID Connect Core 1.0, 3.1.2.6)",
    ],
    ["token endpoint", tokenErrorMeanings[error], "from the token endpoint (RFC 6749, 5.2)"],
  ] as const;
  return {
    kind: "error code",
    summary: `${error}: ${errorMeanings[error] ?? tokenErrorMeanings[error] ?? ""}`,
    parts: places.flatMap(([name, value, meaning]) =>
      value === undefined ? [] : [{ name, value, meaning }],
    ),
    findings: [],
    judgements: [],
  };
}
