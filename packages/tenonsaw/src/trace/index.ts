export { describeEvent } from "./describe-event.js";
export type { CheckEvent, LegEvent, NoteEvent, Trace, TraceEvent, WayEvent } from "./event.js";
export { redactEntries, redactUrl } from "./redacted.js";
export { fingerprint, isSecretName } from "./secret-names.js";
export { methodOf, type Answer, type Leg } from "./leg.js";
export { describeBody, sendLeg } from "./send-leg.js";
export { proxyFor, unreachableBecause } from "./why-unreachable.js";
export type { NamedProxy } from "./unreachable.js";
export { requireFetched, unansweredBy } from "./unanswered.js";
export { createWays, type Ways } from "./ways.js";
export { createRecorder, type Recorder, type TraceRecord } from "./recorder.js";
export {
  causesOf,
  createReport,
  describeReport,
  errorOf,
  problemOf,
  thrownBy,
  type ProblemReport,
} from "./reports.js";
export {
  requireFit,
  requireFramework,
  requireHandler,
  requireRequest,
  requireResponse,
  unfitRequest,
} from "./handed-over.js";
export { noteApiAnswer, noteCall, requireOwnAnswer } from "./api-answers.js";
export { heeding } from "./heeding.js";
export { askApp, inTime } from "./ask-app.js";
export { shapeOf, tagOf } from "./shape-of.js";
export { noteBodyRead, readForm } from "./read-form.js";
export { readUnavailable, requireAvailable, wordsOf } from "./retry-after.js";
export {
  check,
  checkSecret,
  createTools,
  equalInConstantTime,
  note,
  takeStep,
  type Step,
  type Tools,
} from "./tools.js";
