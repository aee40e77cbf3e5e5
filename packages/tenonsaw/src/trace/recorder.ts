import type { Trace, TraceEvent } from "./event.js";

/** What happened on one way: a sign-in from beginning to end, a request, or a call of an API. Secrets are fingerprints. */
export interface TraceRecord {
  readonly id: string;
  /** `Sign-in at quayside`, `POST /sign-in/out`, `Call of tidebook: GET /tides`. */
  readonly title: string;
  /** Seconds since the epoch. */
  readonly beganAt: number;
  /** How it ended: the code of a problem, or what became of a sign-in; absent while it goes on or where nothing is to be said. */
  readonly ending?: string;
  readonly events: readonly TraceEvent[];
}

/** Keeps what happened lately in this process, way by way: for a developer to look at, and nobody else. */
export interface Recorder {
  readonly trace: Trace;
  /** The latest first. */
  records(): readonly TraceRecord[];
}

/** So many ways are kept, and so many events of each. */
const mostRecords = 30;
const mostEvents = 300;

interface Growing {
  readonly id: string;
  title: string;
  readonly beganAt: number;
  ending?: string;
  readonly events: TraceEvent[];
  isJoined: boolean;
}

/** A recorder for one process; which way an event belongs to is said by {@link TraceEvent}. */
export function createRecorder(): Recorder {
  /** By the way, the latest last. */
  const kept = new Map<string, Growing>();
  let count = 0;
  const add = (way: string, record: Growing) => {
    kept.set(way, record);
    for (const oldest of kept.keys()) {
      if (kept.size <= mostRecords) break;
      kept.delete(oldest);
    }
    return record;
  };
  const begin = (way: string, event: TraceEvent) => {
    count += 1;
    const title = event.kind === "way" ? event.title : "Something without a beginning";
    return add(way, { id: String(count), title, beganAt: event.at, events: [], isJoined: false });
  };
  /** What was done under another name until now goes on under this one. */
  const join = (way: string, was: string, title: string) => {
    const earlier = kept.get(was);
    kept.delete(was);
    const record = kept.get(way);
    if (record) record.events.push(...(earlier?.events ?? []).slice(0, mostEvents - record.events.length));
    else if (earlier) add(way, Object.assign(earlier, { title, isJoined: true }));
  };
  return {
    records: () =>
      [...kept.values()]
        .filter(
          ({ events, isJoined }) => isJoined || events.some(({ kind }) => kind === "leg" || kind === "check"),
        )
        .map(({ isJoined: _isJoined, events, ...record }) => ({ ...record, events: [...events] }))
        .toReversed(),
    trace(event) {
      const { way } = event;
      if (way === undefined) return;
      if (event.kind === "way" && event.was !== undefined) {
        join(way, event.was, event.title);
        return;
      }
      const record = kept.get(way) ?? begin(way, event);
      if (record.events.length < mostEvents) record.events.push(event);
      if (event.kind !== "note") return;
      if (event.note === "problem") record.ending = event.detail["problem"] ?? "problem";
      else if (endings.includes(event.note)) record.ending = event.note;
    },
  };
}

const endings: readonly string[] = ["signed in", "declined", "linked", "signed out"];
