import type { Platform, Problem } from "tenonsaw";
import { assessToken } from "tenonsaw/guard";
import type { ApiInQuestion, Judgement } from "./explanation.js";

/** Why a token is refused, in one line. */
export function reasonOf(problem: Problem): string {
  const { code, title, received, expected, findings = [], here, atProvider } = problem;
  const remedy = here ?? (atProvider === undefined ? "" : `At the provider: ${atProvider}`);
  const where = findings.map(({ path, message }) => ` ${path} ${message}.`).join("");
  return `${code}: ${title}. Received ${received ?? "nothing"}; expected ${expected}.${where} ${remedy}`.trim();
}

/** Whether an API would take an access token, and if not, why not: by the rules of the guard itself (RFC 9068 section 4). */
export function judgeAgainstApi(
  platform: Platform,
  { name, takes, scope }: ApiInQuestion,
  token: string,
): Judgement {
  const { problems, notChecked } = assessToken(takes, token, scope ? { scope } : "any-caller", { platform });
  return {
    provider: name,
    isAccepted: problems.length === 0,
    reasons: problems.map(reasonOf),
    notChecked: [
      ...notChecked,
      ...(scope ? [] : ["whether its scope covers the call: name it with --scope"]),
    ],
  };
}
