import { methodOf, type Answer, type Leg } from "./leg.js";
import { redactEntries, redactUrl } from "./redact.js";
import { note, type Tools } from "./tools.js";

/** Tells the trace of a request, and of its answer where there is one. */
export async function tellLeg(tools: Tools, leg: Leg, startedAt: number, answer?: Answer): Promise<void> {
  const { platform } = tools;
  tools.trace?.({
    kind: "leg",
    at: startedAt,
    station: leg.station,
    leg: leg.leg,
    method: methodOf(leg),
    url: await redactUrl(platform, leg.url),
    sent: await redactEntries(platform, leg.form ?? Object.entries(leg.json ?? {})),
    ...(answer && { status: answer.status }),
    received: await redactEntries(platform, answer ? members(answer) : []),
    durationSeconds: platform.now() - startedAt,
  });
  if (!answer) note(tools, leg.station, `${leg.leg}: no answer`);
}

/** An answer of a million members is told as one of so many. */
const mostMembers = 200;

function members(answer: Answer): readonly (readonly [string, unknown])[] {
  try {
    const value: unknown = JSON.parse(answer.text);
    if (typeof value === "object" && value !== null && !Array.isArray(value))
      return Object.entries(value).slice(0, mostMembers);
  } catch {
    // Not JSON: only its kind and size are told.
  }
  const kind = answer.headers.get("content-type") ?? "no content type";
  return [["(body)", `${kind}, ${answer.text.length} characters`]];
}
