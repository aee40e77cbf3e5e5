import type { ServedPageSession } from "tenonsaw/browser";

/** What is looked at of FHIR R4 resources. */
export interface Patient {
  readonly id: string;
  readonly name?: readonly { readonly given?: readonly string[]; readonly family?: string }[];
  readonly birthDate?: string;
}
export interface Observation {
  readonly code: { readonly text?: string };
  readonly effectiveDateTime?: string;
  readonly valueQuantity?: { readonly value?: number; readonly unit?: string };
}
interface Bundle {
  readonly link?: readonly { readonly relation: string; readonly url: string }[];
  readonly entry?: readonly { readonly resource: Observation }[];
}

export async function readPatient(page: ServedPageSession, id: string): Promise<Patient> {
  return read<Patient>(page, `/Patient/${id}`);
}

/** All observations of a category, page by page. */
export async function readObservations(
  page: ServedPageSession,
  patient: string,
  category: string,
): Promise<readonly Observation[]> {
  const found: Observation[] = [];
  let next: string | undefined = `/Observation?patient=${patient}&category=${category}`;
  while (next !== undefined) {
    const { entry = [], link = [] }: Bundle = await read<Bundle>(page, next);
    found.push(...entry.map(({ resource }) => resource));
    next = link.find(({ relation }) => relation === "next")?.url;
  }
  return found;
}

async function read<Resource>(page: ServedPageSession, path: string): Promise<Resource> {
  const answer = await page.fetch("record", path, { headers: { accept: "application/fhir+json" } });
  if (!answer.ok) throw new Error(`The clinic answered with ${answer.status}.`);
  return (await answer.json()) as Resource;
}

export function nameOf({ name = [] }: Patient): string {
  const [{ given = [], family = "" } = {}] = name;
  return `${given.join(" ")} ${family}`.trim();
}
