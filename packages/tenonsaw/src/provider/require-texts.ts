import { fail } from "../problem/index.js";
import { shapeOf } from "../trace/index.js";

/**
 * What would be sent as the word `undefined`, or as something else that is no text.
 *
 * @throws attempt.parameters-refused
 */
export function requireTexts(
  given: Readonly<Record<string, unknown>>,
  further: Readonly<Record<string, unknown>> = {},
): void {
  const wanted = Object.entries(given);
  const more = Object.entries(further).filter(([, value]) => value !== undefined);
  const odd = [...wanted, ...more].find(([, value]) => typeof value !== "string");
  if (!odd) return;
  const [name, value] = odd;
  fail("attempt.parameters-refused", {
    received: `${name}: ${shapeOf(value)}`,
    because: value === undefined ? "absent" : "not-text",
  });
}
