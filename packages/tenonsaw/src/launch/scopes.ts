import { wordsIn } from "../platform/index.js";

/** What a SMART scope lets an app do with resources (SMART App Launch 2.2, Scopes and Launch Context). */
export interface ResourceScope {
  /** For whose data: the patient's in context, all that the person who signs in may see, or all that the app itself may. */
  readonly level: "patient" | "user" | "system";
  /** A FHIR resource type, or `*` for all. */
  readonly resource: string;
  readonly may: readonly Interaction[];
  /** Which syntax it is written in: `patient/Observation.read`, or `patient/Observation.rs`. */
  readonly version: 1 | 2;
  /** What the resources have to be, as search parameters. */
  readonly where: readonly (readonly [string, string])[];
}

/** What can be done with a resource. */
export type Interaction = "create" | "read" | "update" | "delete" | "search";

const letters = { c: "create", r: "read", u: "update", d: "delete", s: "search" } as const;
/** Version 1 in the words of version 2: the standard's own table. */
const inVersion1: Readonly<Record<string, string>> = { read: "rs", write: "cud", "*": "cruds" };

const form = /^(patient|user|system)\/(\*|[A-Z][A-Za-z]{0,63})\.(\*|read|write|c?r?u?d?s?)(?:\?(.+))?$/;

/** What a scope says of resources; undefined where it is about something else, or written wrong: `.sr` for `.rs`. */
export function readResourceScope(text: string): ResourceScope | undefined {
  const [, level, resource, rights = "", query] = form.exec(text) ?? [];
  if (level === undefined || resource === undefined || rights === "") return undefined;
  const old = inVersion1[rights];
  // Version 1 has no conditions.
  if (old !== undefined && query !== undefined) return undefined;
  return {
    level: level as ResourceScope["level"],
    resource,
    may: Array.from(old ?? rights, (letter) => letters[letter as keyof typeof letters]),
    version: old === undefined ? 2 : 1,
    where: [...new URLSearchParams(query ?? "")],
  };
}

/** Whether a scope is one that looks like a SMART scope and is none: a mistake in writing, most often. */
export function isMiswritten(text: string): boolean {
  return /^(patient|user|system)\//.test(text) && readResourceScope(text) === undefined;
}

const fixed: Readonly<Record<string, string>> = {
  openid: "tell who the person is (an ID token)",
  fhirUser: "tell which record in the host describes the person",
  profile: "tell the person's profile",
  launch: "use the context that the host has opened this app in",
  "launch/patient": "have a patient chosen, where the host has not opened this app for one",
  "launch/encounter": "have a visit chosen, where the host has not opened this app for one",
  offline_access: "go on after the person has gone (a refresh token)",
  online_access: "go on for as long as the person stays signed in at the host (a refresh token)",
};

/** What a scope allows, in words; undefined for one that the standard does not know. */
export function explainScope(text: string): string | undefined {
  if (Object.hasOwn(fixed, text)) return fixed[text];
  const scope = readResourceScope(text);
  if (!scope) {
    const [, type, query] = /^launch\/([a-z-]+)(?:\?(.+))?$/.exec(text) ?? [];
    if (type === undefined) return undefined;
    const role = new URLSearchParams(query).get("role");
    return `have a ${type} chosen${role === null ? "" : ` in the role ${role}`}`;
  }
  const { level, resource, may, where } = scope;
  const what = resource === "*" ? "resources of every type" : `${resource} resources`;
  const whose = {
    patient: "of the patient in context",
    user: "that the person who is signed in may see",
    system: "that the host allows this app itself, without a person",
  }[level];
  const conditions = where.map(([name, value]) => `${name} ${value}`).join(" and ");
  return `${listed(may)} ${what} ${whose}${conditions === "" ? "" : `, with ${conditions} only`}`;
}

function listed(words: readonly string[]): string {
  return words.length < 2 ? words.join("") : `${words.slice(0, -1).join(", ")} and ${words.at(-1) ?? ""}`;
}

/**
 * Which of the scopes that were asked for were not granted, whatever the syntax: `patient/Observation.read` is granted by
 * `patient/*.rs`. What is granted under a condition grants nothing that was asked for without it.
 */
export function missingScopes(asked: string, granted: string): readonly string[] {
  const held = wordsIn(granted);
  const resources = held.map(readResourceScope).filter((each) => each !== undefined);
  return wordsIn(asked).filter((text) => {
    const wanted = readResourceScope(text);
    if (!wanted) return !held.includes(text);
    return !wanted.may.every((right) => resources.some((each) => covers(each, wanted, right)));
  });
}

function covers(held: ResourceScope, wanted: ResourceScope, right: Interaction): boolean {
  const has = (pairs: ResourceScope["where"], [name, value]: readonly [string, string]) =>
    pairs.some(([otherName, other]) => otherName === name && other === value);
  return (
    held.level === wanted.level &&
    (held.resource === "*" || held.resource === wanted.resource) &&
    held.may.includes(right) &&
    held.where.every((pair) => has(wanted.where, pair))
  );
}
