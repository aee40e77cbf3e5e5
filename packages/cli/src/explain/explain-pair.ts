import { markDifference } from "../check/difference.js";
import type { Explanation } from "./explanation.js";

/** Two addresses side by side: RFC 6749 section 3.1.2.3 wants a redirect URI the same, character for character. */
export function explainPair(first: string, second: string): Explanation {
  const isSame = first === second;
  return {
    kind: "two addresses",
    summary: isSame ? "The two are the same, character for character" : "The two differ",
    parts: [
      { name: "first", value: first, meaning: "as it stands in one place" },
      { name: "second", value: second, meaning: "as it stands in the other" },
    ],
    findings: isSame
      ? []
      : [
          {
            verdict: "wrong",
            message: describeDifference(first, second),
            drawing: markDifference(first, second, "first", "second"),
          },
        ],
    judgements: [],
  };
}

function describeDifference(first: string, second: string): string {
  const [a, b] = [new URL(first), new URL(second)];
  const without = (path: string) => path.replace(/\/$/, "");
  if (a.protocol !== b.protocol)
    return `One is ${a.protocol.slice(0, -1)}, the other ${b.protocol.slice(0, -1)}.`;
  if (a.hostname !== b.hostname)
    return `The hosts differ: ${a.hostname} and ${b.hostname} are two, even on one machine.`;
  if (a.port !== b.port)
    return `The ports differ: ${a.port || "the default"} and ${b.port || "the default"}.`;
  if (a.pathname !== b.pathname && without(a.pathname) === without(b.pathname))
    return "One ends in a slash, the other does not.";
  if (a.pathname !== b.pathname) return "The paths differ; upper and lower case count.";
  if (a.search !== b.search) return "The queries differ.";
  return "They are spelled differently, though they lead to the same place; for a redirect URI that is not enough.";
}
