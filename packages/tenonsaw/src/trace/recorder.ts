import type { Platform } from "../platform/index.js";
import type { Trace, TraceEvent } from "./event.js";

/** What happened on one way: a sign-in from beginning to end, a request, or a call of an API. Secrets are fingerprints. */
export interface TraceRecord {
  readonly id: string;
  /** `Sign-in at quayside`, `POST /sign-in/out`, `GET tidebook /tides`. */
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
  /** Does something whose events belong together. */
  run<Result>(title: string, work: () => Promise<Result>): Promise<Result>;
  /** Says that what is being done belongs to a way that others may go on with, such as an attempt, by a key. */
  join(key: string, title: string): void;
}

/** So many ways are kept, and so many events of each. */
const mostRecords = 30;
const mostEvents = 300;

interface Growing {
  id: string;
  title: string;
  beganAt: number;
  ending?: string;
  events: TraceEvent[];
  key?: string;
}

/** A recorder for one process; who does what is told apart by the platform's `follow`. */
export function createRecorder({ now, follow, followed }: Platform): Recorder {
  let kept: Growing[] = [];
  let count = 0;
  /** What is being done leads to its record, which may become another one on the way. */
  const current = () => followed() as { record: Growing } | undefined;
  return {
    records: () =>
      kept
        .filter(({ events, key }) => key !== undefined || events.some(({ kind }) => kind !== "note"))
        .map(({ key: _key, events, ...record }) => ({ ...record, events: [...events] }))
        .toReversed(),
    trace(event) {
      const record = current()?.record;
      if (!record || record.events.length >= mostEvents) return;
      record.events.push(event);
      if (event.kind !== "note") return;
      if (event.note === "problem") record.ending = event.detail["problem"] ?? "problem";
      else if (["signed in", "declined", "linked", "signed out"].includes(event.note))
        record.ending = event.note;
    },
    run(title, work) {
      count += 1;
      const record: Growing = { id: String(count), title, beganAt: now(), events: [] };
      record.events.push({ kind: "note", at: record.beganAt, station: "server", note: title, detail: {} });
      kept = [...kept, record].slice(-mostRecords);
      return follow({ record }, work);
    },
    join(key, title) {
      const at = current();
      if (!at) return;
      const before = kept.find((each) => each.key === key && each !== at.record);
      if (!before) {
        Object.assign(at.record, { key, title });
        return;
      }
      before.events.push(...at.record.events.slice(0, mostEvents - before.events.length));
      kept = kept.filter((each) => each !== at.record);
      at.record = before;
    },
  };
}
