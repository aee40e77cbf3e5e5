import { fail } from "../problem/index.js";

/** @throws attempt.parameters-refused for what would be sent as the word `undefined` */
export function requireTexts(given: Readonly<Record<string, unknown>>): void {
  const odd = Object.keys(given).find((name) => typeof given[name] !== "string");
  if (odd !== undefined) fail("attempt.parameters-refused", { received: odd, because: "not-text" });
}
