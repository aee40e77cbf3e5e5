import { texts } from "#problem-texts";
import type { CatalogueEntry, ProblemCode } from "./catalogue.js";

/** What a problem says on a page until withTexts of texts.ts has added to it. */
export const withoutText: CatalogueEntry = {
  title: "A problem whose text is not on this page",
  expected: "see withTexts of tenonsaw/texts",
  status: 500,
};

/** What the catalogue says of a problem; on a page, which does not carry the texts, that it says it elsewhere. */
export function entryOf(code: ProblemCode, because?: string): CatalogueEntry {
  return forCause(texts?.[code] ?? withoutText, because);
}

/** What an entry says where the cause is known. A cause that says what to change says all of it, on both sides. */
export function forCause(entry: CatalogueEntry, because: string | undefined): CatalogueEntry {
  const cause = because === undefined ? undefined : entry.causes?.[because];
  if (!cause) return entry;
  if (cause.here === undefined && cause.atProvider === undefined) return { ...entry, ...cause };
  const { here: _here, atProvider: _atProvider, ...rest } = entry;
  return { ...rest, ...cause };
}
