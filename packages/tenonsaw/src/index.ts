export { beginSignIn, type Attempt, type SignInRequest } from "./attempt/index.js";
export { fetchWithGrant, resolveApiUrl } from "./connection/index.js";
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
  compareRefreshedIdToken,
  finishDeviceSignIn,
  finishSignIn,
  requireClaims,
  validateIdToken,
  type Identity,
  type IdTokenClaims,
  type Outcome,
} from "./identity/index.js";
export {
  beginOAuth1SignIn,
  finishOAuth1SignIn,
  openOAuth1Provider,
  signOAuth1Request,
  type OAuth1Attempt,
  type OAuth1Provider,
  type OAuth1Request,
  type OAuth1Settings,
  type OAuth1Token,
} from "./oauth1/index.js";
export { createPlatform, Secret, type Platform } from "./platform/index.js";
export { isProblem, ProblemError, problemText, type Problem, type ProblemCode } from "./problem/index.js";
export {
  deviationNotes,
  parseChallenges,
  publicKeySet,
  readClientKeys,
  registerClient,
  openProvider,
  type Challenge,
  type Registration,
  type Provider,
  type Profile,
  type ProviderMetadata,
  type ProviderSettings,
} from "./provider/index.js";
export type { Trace, TraceEvent } from "./trace/index.js";
