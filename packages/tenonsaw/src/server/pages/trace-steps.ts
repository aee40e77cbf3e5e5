import { parseUrl } from "../../platform/index.js";
import { entryOf } from "../../problem/index.js";
import type {
  CheckEvent,
  LegEvent,
  NoteEvent,
  TraceEvent,
  TraceRecord,
  WayEvent,
} from "../../trace/index.js";

/** Who takes part, from left to right. */
export const lanes = ["browser", "app", "provider", "api"] as const;
/** One of those who take part. */
export type Lane = (typeof lanes)[number];

/** A step of the picture: an arrow from one to another, or something that happens at one of them. */
export interface Step {
  /** Of the same kind in two records: what they are held against each other by. */
  readonly key: string;
  readonly at: number;
  readonly from: Lane;
  readonly to: Lane;
  readonly text: string;
  readonly facts: readonly (readonly [string, string])[];
  readonly state: "well" | "failed" | "plain";
}

/** What happened, step by step. */
export function stepsOf({ events }: Pick<TraceRecord, "events">): readonly Step[] {
  const steps = events.flatMap(stepOf);
  // What a failed check has said need not be said twice.
  const codes = new Set(
    steps.filter(({ key, state }) => key.startsWith("check ") && state === "failed").map(({ key }) => key),
  );
  return steps.filter(({ key, facts }) => key !== "problem" || !codes.has(`check ${facts[0]?.[1] ?? ""}`));
}

function stepOf(event: TraceEvent): readonly Step[] {
  switch (event.kind) {
    case "leg":
      return legSteps(event);
    case "check":
      return [checkStep(event)];
    case "note":
      return [noteStep(event)];
    case "way":
      return [beginStep(event)];
  }
}

function legSteps(event: LegEvent): readonly Step[] {
  const { leg, method, url, at, status, durationSeconds, sent, received } = event;
  const other: Lane = leg === "API request" ? "api" : "provider";
  const duration = `${Math.round(durationSeconds * 1000)} ms`;
  const isWell = status !== undefined && status < 400;
  const shown = status === undefined ? `no answer in ${duration}` : `${status} in ${duration}`;
  return [
    {
      key: leg,
      at,
      from: "app",
      to: other,
      text: `${leg}: ${method} ${url}`,
      facts: Object.entries(sent),
      state: "plain",
    },
    {
      key: `${leg}, answered`,
      at: at + durationSeconds,
      from: other,
      to: "app",
      text: shown,
      facts: Object.entries(received),
      state: isWell ? "well" : "failed",
    },
  ];
}

function checkStep({ at, check, verdict, received, expected }: CheckEvent): Step {
  const { title, here, atProvider, section } = entryOf(check);
  const isFailed = verdict === "failed";
  const facts: readonly (readonly [string, string | undefined])[] = [
    ["received", received],
    ["expected", expected],
    ...(isFailed
      ? ([
          ["change here", here],
          ["at the provider", atProvider],
          ["standard", section],
        ] as const)
      : []),
  ];
  return {
    key: `check ${check}`,
    at,
    from: "app",
    to: "app",
    text: isFailed ? `${title} (${check})` : `checked: ${check}`,
    facts: facts.filter((fact): fact is readonly [string, string] => fact[1] !== undefined),
    state: isFailed ? "failed" : "well",
  };
}

function noteStep({ at, note, detail }: NoteEvent): Step {
  const facts = Object.entries(detail);
  const rest = { at, facts, text: note, state: note === "problem" ? "failed" : "plain" } as const;
  const sent = /^(sent to [^:]+): (\S+)$/.exec(note);
  if (sent)
    return {
      ...rest,
      ...describeAddress(sent[1] ?? "", sent[2] ?? ""),
      key: "sent to",
      from: "browser",
      to: "provider",
    };
  if (note.startsWith("back from ")) return { ...rest, key: "back from", from: "browser", to: "app" };
  return { ...rest, key: note, from: "app", to: "app" };
}

/** What it begins with: a request of the browser's, at its own account or because the provider sent it. */
function beginStep({ at, title }: WayEvent): Step {
  const step = { key: title, at, text: title, facts: [], state: "plain" } as const;
  if (/^(GET|POST) \S+\/from\//.test(title)) return { ...step, from: "provider", to: "browser" };
  const isRequest = /^(GET|POST|HEAD) \//.test(title);
  return { ...step, from: isRequest ? "browser" : "app", to: "app" };
}

/** An address with its parameters apart, readable. */
function describeAddress(what: string, address: string): Pick<Step, "text" | "facts"> {
  const url = parseUrl(address);
  if (!url) return { text: `${what}: ${address}`, facts: [] };
  // A fingerprint begins with the sign that begins a fragment.
  const query = address.slice(address.indexOf("?") + 1);
  const facts = [...new URLSearchParams(address.includes("?") ? query : "")];
  return { text: `${what}: ${url.origin}${url.pathname}`, facts };
}

/** Two records step by step: what both have beside each other, in order, what one of them lacks alone. */
export function pairSteps(
  left: readonly Step[],
  right: readonly Step[],
): readonly (readonly [Step | undefined, Step | undefined])[] {
  // The longest common subsequence of the keys: longest[i][j] is that of what follows i and j.
  const longest = Array.from({ length: left.length + 1 }, () => new Array<number>(right.length + 1).fill(0));
  const at = (i: number, j: number) => longest[i]?.[j] ?? 0;
  for (let i = left.length - 1; i >= 0; i -= 1)
    for (let j = right.length - 1; j >= 0; j -= 1) {
      const row = longest[i] ?? [];
      row[j] = left[i]?.key === right[j]?.key ? at(i + 1, j + 1) + 1 : Math.max(at(i + 1, j), at(i, j + 1));
    }
  const pairs: (readonly [Step | undefined, Step | undefined])[] = [];
  let [i, j] = [0, 0];
  while (i < left.length || j < right.length) {
    const isSame = i < left.length && j < right.length && left[i]?.key === right[j]?.key;
    if (isSame) pairs.push([left[i++], right[j++]]);
    else if (j >= right.length || (i < left.length && at(i + 1, j) >= at(i, j + 1)))
      pairs.push([left[i++], undefined]);
    else pairs.push([undefined, right[j++]]);
  }
  return pairs;
}

/** Whether two steps say the same, apart from what is new each time: fingerprints, instants, how long it took. */
export function saySame(left: Step | undefined, right: Step | undefined): boolean {
  const plain = (step: Step | undefined) =>
    step &&
    JSON.stringify([step.text, step.facts.filter(([name]) => !newEachTime.includes(name)), step.state])
      .replace(/#[0-9a-f]{8}/g, "#")
      .replace(/\d+ ms|\d+ s (?=ago|since|from now)|\b\d{9,}(\.\d+)?\b/g, "…");
  return plain(left) === plain(right);
}

/** Made from what is secret and new each time, and no secret itself. */
const newEachTime: readonly string[] = ["code_challenge", "dpop_jkt", "request_uri"];
