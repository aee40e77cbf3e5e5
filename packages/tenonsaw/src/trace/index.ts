export { describeEvent } from "./describe-event.js";
export type { CheckEvent, LegEvent, NoteEvent, Trace, TraceEvent } from "./event.js";
export { redactEntries, redactUrl } from "./redact.js";
export { fingerprint, isSecretName } from "./secret-names.js";
export { describeBody, methodOf, sendLeg, type Answer, type Leg, unreachableBecause } from "./send-leg.js";
export { createRecorder, type Recorder, type TraceRecord } from "./recorder.js";
export { appFailed, createReport, describeReport, type ProblemReport } from "./reports.js";
export { readUnavailable } from "./retry-after.js";
export { check, checkSecret, createTools, equalInConstantTime, note, type Tools } from "./tools.js";
