import type { Context } from "hono";
import { rowers, type Resource } from "./records.js";
import type { ClinicState, Clearance } from "./state.js";

/** FHIR R4, http: what is read, and how it is refused. */
const contentType = { "content-type": "application/fhir+json; charset=utf-8", "cache-control": "no-store" };
const usualPage = 10;

const answer = (
  resource: object,
  status: 200 | 400 | 401 | 403 | 404 = 200,
  headers: Record<string, string> = {},
) => new Response(JSON.stringify(resource), { status, headers: { ...contentType, ...headers } });

function refuse(status: 400 | 401 | 403 | 404, diagnostics: string, challenge?: string): Response {
  const outcome = {
    resourceType: "OperationOutcome",
    issue: [{ severity: "error", code: status === 404 ? "not-found" : "forbidden", diagnostics }],
  };
  return answer(outcome, status, challenge === undefined ? {} : { "www-authenticate": challenge });
}

/** `patient/Observation.rs?category=laboratory`, as far as this clinic grants it. */
const form = /^(patient|user|system)\/(\*|\w+)\.(read|write|\*|c?r?u?d?s?)(?:\?category=(\S+))?$/;

interface Right {
  readonly level: string;
  readonly category?: string | undefined;
}

function rightFor(clearance: Clearance, type: string, letter: "r" | "s"): Right | undefined {
  for (const scope of clearance.scope) {
    const [, level = "", resource = "", rights = "", category] = form.exec(scope) ?? [];
    const may = rights === "read" || rights === "*" || (rights !== "write" && rights.includes(letter));
    if (may && (resource === "*" || resource === type)) return { level, category };
  }
  return undefined;
}

/** A small read API: Patient, Encounter, Observation and Practitioner, search, paging. */
export function answerFhir(state: ClinicState, house: string, c: Context): Response {
  const url = new URL(c.req.url);
  const [type = "", id] = url.pathname.slice(`/${house}/fhir/`.length).split("/");
  if (type === "metadata") {
    const rest = [{ mode: "server", security: { service: [{ coding: [{ code: "SMART-on-FHIR" }] }] } }];
    return answer({ resourceType: "CapabilityStatement", status: "active", fhirVersion: "4.0.1", rest });
  }
  const [, token = ""] = /^Bearer (.+)$/i.exec(c.req.header("authorization") ?? "") ?? [];
  const clearance = state.accessTokens.get(token);
  if (clearance?.house !== house || clearance.endsAt <= state.now() || clearance.family.isRevoked)
    return refuse(
      401,
      "Not with this token.",
      `Bearer realm="Boathouse Clinic"${token && ', error="invalid_token"'}`,
    );
  const right = rightFor(clearance, type, id === undefined ? "s" : "r");
  // Whoever is told who the person is may read that record.
  const isOwnUser = type === "Practitioner" && clearance.scope.includes("fhirUser");
  if (!right && !isOwnUser)
    return refuse(
      403,
      `That takes a scope for ${type}.`,
      'Bearer realm="Boathouse Clinic", error="insufficient_scope"',
    );
  if (type === "Practitioner") {
    const person = state.people.find((each) => each.id === id);
    return person
      ? answer({ resourceType: type, id, name: [{ text: person.name }] })
      : refuse(404, "There is no such person.");
  }
  const isSeen = (resource: Resource) => {
    const of = resource.resourceType === "Patient" ? resource.id : patientOf(resource);
    const isInContext = right?.level !== "patient" || of === clearance.patient;
    return (
      isInContext &&
      (right?.category === undefined || categoryOf(resource) === right.category.split("|").at(-1))
    );
  };
  const all = state.records().filter((each) => each.resourceType === type);
  if (id !== undefined) {
    const found = all.find((each) => each.id === id);
    if (!found) return refuse(404, `There is no ${type}/${id}.`);
    return isSeen(found) ? answer(found) : refuse(403, `${type}/${id} is not of the patient in context.`);
  }
  return answer(search(url, type, all.filter(isSeen)));
}

/** FHIR R4, search: parameters, and a page of what they find, with where the next one is. */
function search(url: URL, type: string, seen: readonly Resource[]): object {
  const { searchParams: query } = url;
  const patient = query.get("patient") ?? query.get("subject")?.replace("Patient/", "");
  const category = query.get("category")?.split("|").at(-1);
  const code = query.get("code")?.split("|").at(-1);
  const found = seen.filter(
    (each) =>
      (patient === undefined || each.id === patient || patientOf(each) === patient) &&
      (category === undefined || categoryOf(each) === category) &&
      (code === undefined || codeOf(each) === code),
  );
  const size = Math.min(Math.max(Number(query.get("_count") ?? usualPage) || usualPage, 1), 50);
  const from = Math.max(Number(query.get("_offset") ?? 0) || 0, 0);
  const link = (relation: string, offset: number) => {
    const at = new URL(url);
    at.searchParams.set("_offset", String(offset));
    return { relation, url: at.href };
  };
  return {
    resourceType: "Bundle",
    type: "searchset",
    total: found.length,
    link: [link("self", from), ...(from + size < found.length ? [link("next", from + size)] : [])],
    entry: found.slice(from, from + size).map((resource) => ({
      fullUrl: `${url.origin}${url.pathname.replace(/\/[^/]*$/, "")}/${type}/${resource.id}`,
      resource,
    })),
  };
}

function patientOf({ subject }: Resource): string | undefined {
  return (subject as { readonly reference?: string } | undefined)?.reference?.replace("Patient/", "");
}

interface Coded {
  readonly coding?: readonly { readonly code?: string }[];
}

function categoryOf({ category }: Resource): string | undefined {
  return (category as readonly Coded[] | undefined)?.[0]?.coding?.[0]?.code;
}

function codeOf({ code }: Resource): string | undefined {
  return (code as Coded | undefined)?.coding?.[0]?.code;
}

export function nameOfRower(id: string): string {
  const rower = rowers.find((each) => each.id === id);
  return rower ? `${rower.given} ${rower.family}` : id;
}
