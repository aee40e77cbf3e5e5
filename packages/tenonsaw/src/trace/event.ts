import type { ProblemCode } from "../problem/index.js";

/** What an event belongs to. */
interface OnItsWay {
  /**
   * The same for all of one sign-in, of one request to the sign-in routes, of one call of an API; where the runtime can tell.
   * What is found out to belong to a sign-in has another name before; a {@link WayEvent} says which.
   */
  readonly way?: string;
}

/** One request to a provider or API and its answer. Secrets appear as fingerprints. */
export interface LegEvent extends OnItsWay {
  readonly kind: "leg";
  /** Seconds since the epoch. */
  readonly at: number;
  readonly station: string;
  /** The standard's name of the leg: "token request", "userinfo request", … */
  readonly leg: string;
  readonly method: string;
  readonly url: string;
  readonly sent: Readonly<Record<string, string>>;
  /** Absent when no answer came. */
  readonly status?: number;
  readonly received: Readonly<Record<string, string>>;
  readonly durationSeconds: number;
}

/** One validation step, named by the problem it would be. */
export interface CheckEvent extends OnItsWay {
  readonly kind: "check";
  readonly at: number;
  readonly station: string;
  readonly check: ProblemCode;
  readonly verdict: "passed" | "failed";
  readonly received?: string;
  readonly expected?: string;
}

/** Something that happened to a session or connection. */
export interface NoteEvent extends OnItsWay {
  readonly kind: "note";
  readonly at: number;
  readonly station: string;
  readonly note: string;
  readonly detail: Readonly<Record<string, string>>;
}

/** A way begins, or goes on under another name. */
export interface WayEvent extends OnItsWay {
  readonly kind: "way";
  readonly at: number;
  /** `GET /sign-in/to/quayside`, `Sign-in at quayside`, `Call of tidebook: GET /tides`. */
  readonly title: string;
  /** What `way` was until now, of all events that belong to it. */
  readonly was?: string;
}

/** One thing that happened: a request with its answer, a check, a note, or that a way begins. */
export type TraceEvent = LegEvent | CheckEvent | NoteEvent | WayEvent;

/** Is told what happens, as it happens; secrets are fingerprints. */
export type Trace = (event: TraceEvent) => void;
