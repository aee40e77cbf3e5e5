import { ProblemError } from "tenonsaw";
import type { JsonObject } from "tenonsaw/jose";
import { catalogue } from "tenonsaw/problem";
import { stepsOf } from "tenonsaw/trace-page";
import type { TraceRecord } from "tenonsaw/trace";
import type { Explanation } from "./explanation.js";

/**
 * Explains what the trace page gives as data, or `try --page` has written: what happened, step by step, and where it failed.
 *
 * @throws cli.unrecognised
 */
export function explainTrace({ records }: JsonObject): Explanation {
  const [record] = Array.isArray(records) ? (records as readonly unknown[]) : [];
  if (!isRecord(record)) throw new ProblemError("cli.unrecognised", { received: "a trace without a record" });
  const steps = stepsOf(record);
  const failed = steps.filter(({ state }) => state === "failed");
  return {
    kind: "trace",
    summary: `${record.title}: ${record.ending ?? "no end was seen"}`,
    parts: steps.map(({ at, from, to, text, facts }) => ({
      name: `+${Math.round((at - record.beganAt) * 1000)} ms`,
      value: from === to ? text : `${from} → ${to}: ${text}`,
      meaning: facts
        .map(([name, value]) => `${name} ${value}`)
        .join(", ")
        .slice(0, 200),
    })),
    findings: failed.map(({ text, facts }) => ({
      verdict: "wrong",
      message: [`${text}.`, ...facts.map(([name, value]) => `${name}: ${value}.`)].join(" "),
    })),
    judgements: [],
  };
}

/** As far as it is looked at here: what somebody else has written may be anything. */
function isRecord(value: unknown): value is TraceRecord {
  const { title, beganAt, events } = (value ?? {}) as Partial<Record<keyof TraceRecord, unknown>>;
  return (
    typeof title === "string" && typeof beganAt === "number" && Array.isArray(events) && events.every(isEvent)
  );
}

function isEvent(value: unknown): boolean {
  const { kind, at, ...rest } = (value ?? {}) as Record<string, unknown>;
  const isText = (...names: readonly string[]) => names.every((name) => typeof rest[name] === "string");
  const isMap = (...names: readonly string[]) =>
    names.every(
      (name) =>
        typeof rest[name] === "object" &&
        rest[name] !== null &&
        Object.values(rest[name]).every((each) => typeof each === "string"),
    );
  if (typeof at !== "number") return false;
  if (kind === "leg")
    return (
      isText("leg", "method", "url") &&
      isMap("sent", "received") &&
      typeof rest["durationSeconds"] === "number"
    );
  if (kind === "check") return isText("check", "verdict") && Object.hasOwn(catalogue, String(rest["check"]));
  if (kind === "way") return isText("title");
  return kind === "note" && isText("note") && isMap("detail");
}
