export { beginSignIn, type Attempt, type SignInRequest } from "./attempt/index.js";
export {
  exchangeToken,
  refreshGrant,
  requestAssertionToken,
  requestClientToken,
  requestDeviceCode,
  revokeGrant,
  type DeviceRequest,
  type Grant,
  type TokenExchange,
} from "./grant/index.js";
export {
  checkIdTokenClaims,
  finishDeviceSignIn,
  finishSignIn,
  requireClaims,
  validateIdToken,
  type Identity,
  type IdTokenClaims,
  type Outcome,
} from "./identity/index.js";
export { createPlatform, Secret, type Platform } from "./platform/index.js";
export { isProblem, ProblemError, problemText, type Problem, type ProblemCode } from "./problem/index.js";
export {
  deviationNotes,
  publicKeySet,
  readClientKeys,
  registerClient,
  openProvider,
  type Registration,
  type Provider,
  type Profile,
  type ProviderMetadata,
  type ProviderSettings,
} from "./provider/index.js";
export type { Trace, TraceEvent } from "./trace/index.js";
