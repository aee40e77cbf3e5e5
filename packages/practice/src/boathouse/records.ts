/** A FHIR R4 resource, as far as it is looked at here. */
export interface Resource {
  readonly resourceType: string;
  readonly id: string;
  readonly [member: string]: unknown;
}

/** Somebody whose record the clinic keeps. All of them are made up. */
export interface Rower {
  readonly id: string;
  readonly given: string;
  readonly family: string;
  readonly birthDate: string;
  readonly visit: string;
  /** Resting pulse, week by week, in beats a minute. */
  readonly pulse: readonly number[];
  /** Blood lactate after a test on the water, in mmol/L. */
  readonly lactate: readonly number[];
}

export const rowers: readonly Rower[] = [
  {
    id: "rower-tamsin",
    given: "Tamsin",
    family: "Reed",
    birthDate: "1994-03-11",
    visit: "visit-201",
    pulse: [58, 57, 59, 56, 55, 55, 54, 56, 53, 52, 52, 51],
    lactate: [4.1, 3.9, 3.6],
  },
  {
    id: "rower-jun",
    given: "Jun",
    family: "Oakes",
    birthDate: "1987-11-29",
    visit: "visit-202",
    pulse: [64, 63, 66, 71, 74, 70, 67, 65, 64, 63, 62, 63],
    lactate: [5.2, 5.6, 4.8],
  },
  {
    id: "rower-ase",
    given: "Åse",
    family: "Nygård-Łęcka",
    birthDate: "2001-07-02",
    visit: "visit-203",
    pulse: [49, 48, 48, 50, 47, 46, 47, 46, 45, 46, 45, 44],
    lactate: [3.1, 3.0, 2.8],
  },
];

const week = 604_800;

/** All that the clinic has on record, the newest observations last. */
export function createRecords(now: number): readonly Resource[] {
  const day = (weeksAgo: number) => new Date((now - weeksAgo * week) * 1000).toISOString().slice(0, 10);
  return rowers.flatMap(({ id, given, family, birthDate, visit, pulse, lactate }) => {
    const subject = { reference: `Patient/${id}` };
    const observe = (kind: Kind, values: readonly number[], weeks: number) =>
      values.map((value, index): Resource => ({
        resourceType: "Observation",
        id: `${kind.name}-${id}-${index + 1}`,
        status: "final",
        category: [
          {
            coding: [
              { system: "http://terminology.hl7.org/CodeSystem/observation-category", code: kind.category },
            ],
          },
        ],
        code: { coding: [{ system: "http://loinc.org", code: kind.code }], text: kind.text },
        subject,
        effectiveDateTime: day((values.length - 1 - index) * weeks),
        valueQuantity: { value, unit: kind.unit },
      }));
    return [
      { resourceType: "Patient", id, name: [{ use: "official", given: [given], family }], birthDate },
      { resourceType: "Encounter", id: visit, status: "in-progress", class: { code: "AMB" }, subject },
      ...observe(kinds.pulse, pulse, 1),
      ...observe(kinds.lactate, lactate, 4),
    ];
  });
}

interface Kind {
  readonly name: string;
  readonly category: string;
  readonly code: string;
  readonly text: string;
  readonly unit: string;
}

const kinds = {
  pulse: {
    name: "pulse",
    category: "vital-signs",
    code: "40443-4",
    text: "Resting pulse",
    unit: "beats/minute",
  },
  lactate: {
    name: "lactate",
    category: "laboratory",
    code: "2524-7",
    text: "Lactate after test",
    unit: "mmol/L",
  },
} as const;
