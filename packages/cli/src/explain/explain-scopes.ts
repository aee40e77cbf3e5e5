import { explainScope, isMiswritten, readResourceScope } from "tenonsaw/launch";
import type { Explanation, Finding } from "./explanation.js";

/** Whether a text is scopes, one of them at least as SMART App Launch has them. */
export function isScopes(text: string): boolean {
  const all = text.split(/[\s]+/);
  return all.some((each) => isMiswritten(each) || /\/|^launch$/.test(each)) && all.every(isKnown);
}

function isKnown(text: string): boolean {
  return explainScope(text) !== undefined || isMiswritten(text);
}

/** Says in words what scopes allow (SMART App Launch 2.2, Scopes and Launch Context). */
export function explainScopes(text: string): Explanation {
  const all = text.split(/\s+/);
  const findings = all.flatMap((each): readonly Finding[] => {
    if (isMiswritten(each)) return [{ verdict: "wrong", message: mistakeIn(each) }];
    const scope = readResourceScope(each);
    if (scope?.resource === "*")
      return [
        { verdict: "careful", message: `${each} is for resources of every type: ask for the ones you read.` },
      ];
    if (scope?.version === 1)
      return [
        {
          verdict: "careful",
          message: `${each} is in the first syntax; in the second it is ${inSecond(each)}.`,
        },
      ];
    return [];
  });
  return {
    kind: "scopes",
    summary: `${all.length} ${all.length === 1 ? "scope" : "scopes"} of a host with records`,
    parts: all.map((name) => {
      const { level = "", may = [] } = readResourceScope(name) ?? {};
      return {
        name,
        value: level === "" ? "no resources" : `${level}: ${may.join(", ")}`,
        meaning: explainScope(name) ?? "nothing that the standard knows",
      };
    }),
    findings,
    judgements: [],
  };
}

function mistakeIn(text: string): string {
  const [, rights = ""] = /\.([a-z*]+)(?:\?|$)/.exec(text) ?? [];
  const sorted = ["c", "r", "u", "d", "s"].filter((letter) => rights.includes(letter)).join("");
  const isOrder = sorted !== "" && sorted.length === rights.length && sorted !== rights;
  return isOrder
    ? `${text} is no scope: the rights stand in the order of cruds, here ${sorted}.`
    : `${text} is no scope: it is patient, user or system, a slash, a resource type or *, a dot, and rights: some of cruds, or read, write or *.`;
}

function inSecond(text: string): string {
  return text
    .replace(/\.read$/, ".rs")
    .replace(/\.write$/, ".cud")
    .replace(/\.\*$/, ".cruds");
}
