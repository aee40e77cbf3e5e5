import { decodeJws, freezeDeeply } from "../jose/index.js";
import { isProblem, ProblemError, type Problem } from "../problem/index.js";
import { createTools, type Step, type Tools } from "../trace/index.js";
import { callerOf, type Caller } from "./caller.js";
import { findFormat, findIssuer, hold, judgeToken } from "./judge.js";
import { judgeNeeds, readNeeds, type AnyCaller, type CallNeeds } from "./needs.js";
import { readGuardSettings } from "./settings.js";
import type { GuardSettings } from "./settings-types.js";
import { readable } from "./token-issuer.js";

/** What a guard would say of a signed token, all of it at once; what takes a key or a connection is not looked at. */
export interface Assessment {
  /** In the order in which the guard meets them: the first is what it would refuse for. */
  readonly problems: readonly Problem[];
  /** Who would call; absent where the token cannot be read. */
  readonly caller?: Caller;
  /** What was not looked at. */
  readonly notChecked: readonly string[];
}

/**
 * Judges a signed token as the guard would, offline, by the same rules.
 *
 * @throws provider.settings-refused
 */
export function assessToken(
  settings: GuardSettings,
  token: string,
  wanted: CallNeeds | AnyCaller,
  parts: Partial<Tools> = {},
): Assessment {
  const { issuers } = readGuardSettings(settings);
  const needs = readNeeds(wanted);
  const tools = createTools(parts);
  const now = tools.platform.now();
  const problems: Problem[] = [];
  const notChecked = ["signature (needs the issuer's keys)", "revocation"];
  const collect = (work: () => void) => {
    try {
      work();
    } catch (error) {
      if (!isProblem(error)) throw error;
      problems.push(error.problem);
    }
  };
  const collectAll = (steps: Iterable<Step>) => {
    for (const step of steps) collect(() => hold(tools, [step]));
  };
  let decoded;
  try {
    decoded = decodeJws(token);
  } catch (error) {
    const made = readable(error);
    if (!(made instanceof ProblemError)) throw made;
    return { problems: [made.problem], notChecked };
  }
  const { payload, header } = decoded;
  let settled = issuers[0];
  collect(() => {
    settled = findIssuer(
      tools,
      issuers.map((each) => ({ settings: each })),
      payload,
    ).settings;
  });
  if (!settled) return { problems, notChecked };
  const format = findFormat(settled, payload);
  // Of another issuer, it has none of this one's formats; the rest of it may be wrong as well.
  const isForeign = problems.length > 0;
  for (const step of judgeToken(settled, format, { header, payload }, { now }))
    if (!isForeign || step.code !== "guard.format-refused") collectAll([step]);
  // Of another kind of token, or of a format that is not taken, it says nothing that the rest of it is as well.
  const other = problems.find(({ code }) => code === "guard.format-refused" || code === "guard.kind-refused");
  if (other && other.because !== "untyped")
    return { problems: isForeign ? [...problems.slice(0, 1), other] : [other], notChecked };
  const caller = callerOf(freezeDeeply(payload), format);
  collectAll(judgeNeeds(needs, caller, now));
  if (payload["cnf"] !== undefined) notChecked.push("the proof or certificate that it is bound to");
  return { problems, caller, notChecked };
}
