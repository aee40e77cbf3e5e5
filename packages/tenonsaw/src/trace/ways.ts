import type { Platform } from "../platform/index.js";
import type { Trace, TraceEvent } from "./event.js";

/** Tells events apart by what they belong to: one sign-in from beginning to end, one request, one call of an API. */
export interface Ways {
  /** As given, and says to which way each event belongs. */
  readonly trace: Trace;
  /** Does something whose events belong together, and tells that it begins. */
  run<Result>(title: string, work: () => Promise<Result>): Promise<Result>;
  /** Says that what is being done belongs to a way that others go on with, such as an attempt, by its key. */
  join(key: string, title: string): void;
}

/** Ways for one process, by the platform's `follow`; without it events have none. */
export function createWays({ now, follow, followed, randomBytes }: Platform, trace: Trace): Ways {
  const current = () => followed() as { way: string } | undefined;
  const tell = (event: TraceEvent) => {
    const way = current()?.way;
    trace(way === undefined ? event : { ...event, way });
  };
  return {
    trace: tell,
    run(title, work) {
      const way = Array.from(randomBytes(8), (byte) => byte.toString(16).padStart(2, "0")).join("");
      return follow({ way }, () => {
        tell({ kind: "way", at: now(), title });
        return work();
      });
    },
    join(key, title) {
      const at = current();
      if (!at) return;
      const was = at.way;
      at.way = key;
      tell({ kind: "way", at: now(), title, was });
    },
  };
}
