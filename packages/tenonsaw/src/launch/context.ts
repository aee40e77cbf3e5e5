import type { JsonObject } from "../jose/index.js";
import { limits, wordsIn } from "../platform/index.js";
import { fail, isProblem, type ProblemFinding } from "../problem/index.js";
import type { Host, MemberType } from "../provider/index.js";
import { note, type Tools } from "../trace/index.js";
import { readResourceScope } from "./scopes.js";

/** A record beside patient and visit that the host has before its user: `fhirContext`. One of the first three is there. */
export interface ContextReference {
  /** Such as `ImagingStudy/123`, below the host's base. */
  readonly reference?: string;
  readonly canonical?: string;
  readonly identifier?: Readonly<Record<string, unknown>>;
  readonly type?: string;
  /** Default: `launch`. */
  readonly role?: string;
}

/** In which context a host has opened the app (SMART App Launch 2.2, Launch Context). */
export interface LaunchContext {
  /** ID of the patient. */
  readonly patient?: string;
  /** ID of the visit. */
  readonly encounter?: string;
  readonly fhirContext: readonly ContextReference[];
  /** Whether this app has to show whose data it shows; absent where the host does not say, and then it should. */
  readonly needPatientBanner?: boolean;
  /** What the person wants to do here, in a word that host and app have agreed on. */
  readonly intent?: string;
  /** Where the host's colours and sizes are. */
  readonly smartStyleUrl?: string;
  /** The organisation. */
  readonly tenant?: string;
  /** What `launch.context` of the settings names. */
  readonly own: Readonly<Record<string, unknown>>;
}

const ownOfSmart = new Set([
  "patient",
  "encounter",
  "fhirContext",
  "need_patient_banner",
  "intent",
  "smart_style_url",
  "tenant",
]);

/** FHIR R4, data type id; dots alone would be a step up in an address. */
const resourceId = /^(?!\.+$)[A-Za-z0-9.-]{1,64}$/;

/**
 * The context as the host has told it, every member of the type it has to be.
 *
 * @param granted the scope: what is for a patient's data has to come with a patient
 * @throws launch.context-refused, launch.context-missing
 */
export function readContext(host: Host, members: JsonObject, granted: string): LaunchContext {
  const findings = findMistakes(host, members);
  if (findings.length > 0)
    fail("launch.context-refused", {
      received: `a token answer with ${findings.map(({ path }) => path).join(", ")} that cannot be used`,
      findings,
    });
  if (host.isSmart) requireContext(members, granted);
  return shape(host, members);
}

/** What is wrong with a context, member by member. */
function findMistakes(host: Host, members: JsonObject): readonly ProblemFinding[] {
  const length = JSON.stringify(members).length;
  if (length > limits.launchContext)
    return [
      {
        path: "(context)",
        message: `has ${length} characters, and at most ${limits.launchContext} are read`,
      },
    ];
  return Object.entries(host.context).flatMap(([path, type]) => {
    const value = members[path];
    if (value === undefined) return [];
    const is = typeOf(value);
    if (is !== type) return [{ path, message: `is ${is}, and has to be ${type}` }];
    if (!host.isSmart || !ownOfSmart.has(path)) return [];
    if ((path === "patient" || path === "encounter") && !resourceId.test(value as string))
      return [{ path, message: "is not the ID of a resource" }];
    if (path === "fhirContext") return (value as readonly unknown[]).flatMap(findReferenceMistakes);
    return [];
  });
}

function findReferenceMistakes(each: unknown, index: number): readonly ProblemFinding[] {
  const path = `fhirContext.${index}`;
  if (typeOf(each) !== "object") return [{ path, message: `is ${typeOf(each)}, and has to be object` }];
  const { reference, canonical, identifier, type, role } = each as JsonObject;
  const texts = { reference, canonical, type, role };
  const wrong = Object.entries(texts).find(([, value]) => value !== undefined && typeof value !== "string");
  if (wrong)
    return [{ path: `${path}.${wrong[0]}`, message: `is ${typeOf(wrong[1])}, and has to be string` }];
  if (reference === undefined && canonical === undefined && identifier === undefined)
    return [{ path, message: "has neither reference nor canonical nor identifier" }];
  if (role === "") return [{ path: `${path}.role`, message: "is empty" }];
  // The strict reading: who the launch is about stands in `patient` and `encounter` alone, so that no two can differ.
  const isPlain = role === undefined || role === "launch";
  if (isPlain && typeof reference === "string" && /^(Patient|Encounter)\//.test(reference))
    return [
      { path: `${path}.reference`, message: "names a patient or visit, which has a member of its own" },
    ];
  return [];
}

/** @throws launch.context-missing */
function requireContext(members: JsonObject, granted: string): void {
  const scopes = wordsIn(granted);
  const isForPatient = scopes.some(
    (each) => each === "launch/patient" || readResourceScope(each)?.level === "patient",
  );
  const missing = [
    ...(isForPatient && members["patient"] === undefined ? ["patient"] : []),
    ...(scopes.includes("launch/encounter") && members["encounter"] === undefined ? ["encounter"] : []),
  ];
  if (missing.length === 0) return;
  fail("launch.context-missing", {
    received: `a token answer with ${Object.keys(members).join(", ") || "no context"} and the scope ${granted}`,
    expected: missing.join(" and "),
  });
}

function shape(host: Host, members: JsonObject): LaunchContext {
  const own = Object.keys(host.context).filter((name) => !host.isSmart || !ownOfSmart.has(name));
  const {
    patient,
    encounter,
    fhirContext = [],
    need_patient_banner: banner,
    intent,
    smart_style_url: styleUrl,
    tenant,
  } = host.isSmart ? members : {};
  return {
    ...(patient !== undefined && { patient: patient as string }),
    ...(encounter !== undefined && { encounter: encounter as string }),
    fhirContext: fhirContext as readonly ContextReference[],
    ...(banner !== undefined && { needPatientBanner: banner as boolean }),
    ...(intent !== undefined && { intent: intent as string }),
    ...(styleUrl !== undefined && { smartStyleUrl: styleUrl as string }),
    ...(tenant !== undefined && { tenant: tenant as string }),
    own: Object.fromEntries(own.filter((name) => name in members).map((name) => [name, members[name]])),
  };
}

function typeOf(value: unknown): MemberType | "null" {
  if (value === null) return "null";
  return Array.isArray(value) ? "array" : (typeof value as MemberType);
}

/**
 * What a refresh leaves of a context: the new one, where it can be used. One that cannot is left out, and the old one stays:
 * the refresh token is spent already, and to refuse the tokens would end the connection. That is reported.
 */
export function renewContext(
  { report, ...tools }: Tools,
  host: Host | undefined,
  before: JsonObject | undefined,
  after: JsonObject | undefined,
): JsonObject | undefined {
  if (!host || !after) return before;
  try {
    const findings = findMistakes(host, told(after));
    if (findings.length > 0)
      fail("launch.context-refused", { received: "a refresh answer whose context cannot be used", findings });
    if (before?.["patient"] !== after["patient"])
      note(tools, "launch", "the refresh brought another patient", { host: host.base });
    return after;
  } catch (error) {
    if (!isProblem(error)) throw error;
    note(tools, "launch", "a context that cannot be used was left out", { problem: error.problem.code });
    report?.(error, "refresh of a launch");
    return before;
  }
}

/** What this app keeps of its own with a context; the names are none that a host can use. */
export interface Remembered {
  /** The scope that was asked for. */
  readonly $asked?: string;
  /** Where the host's record of the person is. */
  readonly $user?: string;
  /** The host's colours and sizes. */
  readonly $style?: Readonly<Record<string, string>>;
}

/** A context as it is kept, without what this app has added. */
export function told(kept: JsonObject): JsonObject {
  return Object.fromEntries(Object.entries(kept).filter(([name]) => !name.startsWith("$")));
}
