export { entryOf } from "./entry-of.js";
export { isProblem } from "./is-problem.js";
export {
  catalogue,
  type CatalogueEntry,
  type Cause,
  type CauseOf,
  type ProblemCode,
  type Station,
} from "./catalogue.js";
export {
  describeProblem,
  fail,
  ProblemError,
  problemText,
  quoted,
  quotedList,
  visible,
  type Problem,
  type ProblemDetail,
  type ProblemFinding,
} from "./problem.js";
