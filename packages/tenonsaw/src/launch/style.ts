import { parseUrl, limits } from "../platform/index.js";
import { parseJsonObject } from "../jose/index.js";
import { fail, isProblem, quoted, type ProblemFinding } from "../problem/index.js";
import type { Host } from "../provider/index.js";
import { describeBody, note, sendLeg, type Tools } from "../trace/index.js";

const colour = /^#([0-9a-f]{3}|[0-9a-f]{4}|[0-9a-f]{6}|[0-9a-f]{8})$/i;
const size = /^\d{1,4}(\.\d{1,4})?(px|pt|em|rem|%)?$/;
const font = /^[\w ,'"-]{1,200}$/;

/** SMART App Launch 2.2, Styling: the members, and what each has to look like. */
const members: Readonly<Record<string, readonly [RegExp, string]>> = {
  color_background: [colour, "a colour such as #e8f0f2"],
  color_error: [colour, "a colour such as #e8f0f2"],
  color_highlight: [colour, "a colour such as #e8f0f2"],
  color_modal_backdrop: [colour, "a colour such as #e8f0f2"],
  color_success: [colour, "a colour such as #e8f0f2"],
  color_text: [colour, "a colour such as #e8f0f2"],
  dim_border_radius: [size, "a size such as 6px"],
  dim_font_size: [size, "a size such as 13px"],
  dim_spacing_size: [size, "a size such as 20px"],
  font_family_body: [font, "names of fonts"],
  font_family_heading: [font, "names of fonts"],
};

/**
 * The host's colours and sizes, by the standard's names: fetched from the host's own origin or one that the settings name, and
 * nothing in them but colours, sizes and names of fonts. Without a style an app looks like itself, so what is wrong with one
 * is reported and stops nothing.
 */
export async function fetchStyle(
  tools: Tools,
  host: Host,
  url: string,
  timeoutSeconds: number,
): Promise<Readonly<Record<string, string>> | undefined> {
  try {
    requireOrigin(host, url);
    const answer = await sendLeg(tools, { station: "launch", leg: "style request", url, timeoutSeconds });
    if (answer.status !== 200 || answer.text.length > limits.launchStyle)
      fail("launch.style-refused", {
        received: `status ${answer.status} with ${answer.text.length} characters from ${quoted(url)}`,
        expected: `status 200 and at most ${limits.launchStyle} characters of JSON`,
      });
    return readStyle(answer.text, () => describeBody(answer).kind);
  } catch (error) {
    if (!isProblem(error)) throw error;
    note(tools, "launch", "without the host's style", { problem: error.problem.code });
    tools.report?.(error, "style of a launch");
    return undefined;
  }
}

function requireOrigin({ base, launch }: Host, url: string): void {
  const allowed = [new URL(base).origin, ...(launch.styleOrigins ?? [])];
  const origin = parseUrl(url)?.origin;
  if (origin !== undefined && allowed.includes(origin)) return;
  fail("launch.style-refused", {
    received: quoted(url),
    expected: `a style document at ${allowed.join(" or ")}`,
    because: "elsewhere",
  });
}

function readStyle(text: string, kindOf: () => string): Readonly<Record<string, string>> {
  let style: Readonly<Record<string, unknown>>;
  try {
    style = parseJsonObject(text, "style");
  } catch (error) {
    fail("launch.style-refused", { received: kindOf(), expected: "a JSON object", cause: error });
  }
  const findings: ProblemFinding[] = [];
  const read: Record<string, string> = {};
  for (const [name, [pattern, shape]] of Object.entries(members)) {
    const value = style[name];
    if (value === undefined) continue;
    if (typeof value === "string" && pattern.test(value)) read[name] = value;
    else findings.push({ path: name, message: `is ${quoted(value, 60)}, and has to be ${shape}` });
  }
  // One bad value makes none of it good: it is one design, and half of it may be unreadable.
  if (findings.length > 0)
    fail("launch.style-refused", { received: "a style with values that are none", findings });
  return read;
}
