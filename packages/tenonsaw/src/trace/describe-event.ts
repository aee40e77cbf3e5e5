import { visible } from "../problem/index.js";
import type { TraceEvent } from "./event.js";

/**
 * An event as one line for people: what happened where, how long it took, what it was about. Whatever came from outside
 * stays on this line: a line break or an escape sequence in it is shown as its code.
 */
export function describeEvent(event: TraceEvent): string {
  return visible(describe(event));
}

function describe(event: TraceEvent): string {
  switch (event.kind) {
    case "leg": {
      const duration = `${Math.round(event.durationSeconds * 1000)} ms`;
      const answer = event.status === undefined ? "no answer" : String(event.status);
      const { error } = event.received;
      const said = error === undefined ? "" : ` (${error})`;
      return `${event.leg}: ${event.method} ${event.url} → ${answer}${said} in ${duration}`;
    }
    case "check": {
      const mark = event.verdict === "passed" ? "ok" : "FAILED";
      const expected = event.verdict === "passed" ? "" : `, expected ${event.expected ?? ""}`;
      return `check ${event.check}: ${mark}, ${event.received ?? "nothing received"}${expected}`;
    }
    case "way":
      return event.was === undefined ? event.title : `${event.title}, before that ${event.was}`;
    case "note": {
      const detail = Object.entries(event.detail).map(([name, value]) => `${name} ${value}`);
      return [event.note, ...detail].join(", ");
    }
  }
}
