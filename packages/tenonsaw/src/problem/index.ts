export { catalogue, type CatalogueEntry, type ProblemCode, type Station } from "./catalogue.js";
export {
  describeProblem,
  fail,
  isProblem,
  ProblemError,
  problemText,
  quoted,
  visible,
  type Problem,
  type ProblemDetail,
  type ProblemFinding,
} from "./problem.js";
