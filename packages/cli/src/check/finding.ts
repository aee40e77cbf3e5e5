/** One thing that was looked at, and what came of it. */
export interface CheckFinding {
  /** What it is about: "settings", or the name of a provider or API. */
  readonly about: string;
  readonly name: string;
  /** `skipped` where something before it made it pointless; `untold` where what was asked did not tell. */
  readonly verdict: "good" | "careful" | "wrong" | "untold" | "skipped";
  readonly looked: string;
  readonly remedy?: string;
  /** Where the remedy is. */
  readonly side?: "here" | "at the provider";
}

type Verdict = CheckFinding["verdict"];

/** Writes findings about one thing. */
export function createFindings(about: string) {
  const list: CheckFinding[] = [];
  const add = (verdict: Verdict, name: string, looked: string, rest: Partial<CheckFinding> = {}) =>
    void list.push({ about, name, verdict, looked, ...rest });
  return {
    list,
    good: (name: string, looked: string) => add("good", name, looked),
    skipped: (name: string, looked: string) => add("skipped", name, looked),
    untold: (name: string, looked: string, remedy: string) => add("untold", name, looked, { remedy }),
    careful: (name: string, looked: string, remedy: string, side: CheckFinding["side"] = "here") =>
      add("careful", name, looked, { remedy, side }),
    wrong: (name: string, looked: string, remedy: string, side: CheckFinding["side"] = "here") =>
      add("wrong", name, looked, { remedy, side }),
  };
}

export type Findings = ReturnType<typeof createFindings>;
