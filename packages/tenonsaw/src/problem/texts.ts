import { catalogue } from "./catalogue.js";
import { forCause, withoutText } from "./entry-of.js";
import type { Problem } from "./problem.js";

/**
 * A problem with its texts. A page's copy of the library knows codes and what came; the texts are here, to be fetched when
 * there is a problem to show: `(await import("tenonsaw/texts")).withTexts(problem)`.
 *
 * @param given the problem, or the error that has it
 */
export function withTexts(given: Problem | { readonly problem: Problem }): Problem {
  const problem = "problem" in given ? given.problem : given;
  const entry = forCause(catalogue[problem.code], problem.because);
  const { title, expected, here, atProvider, section, status } = entry;
  const isGeneral = problem.expected === withoutText.expected;
  return {
    ...problem,
    title,
    status,
    ...(isGeneral && { expected }),
    ...(problem.here === undefined && here !== undefined && { here }),
    ...(atProvider !== undefined && { atProvider }),
    ...(section !== undefined && { section }),
  };
}
