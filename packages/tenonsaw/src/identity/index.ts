export { compareRefreshedIdToken, isAboutIdToken } from "./compare-refreshed-id-token.js";
export { describeAnew } from "./describe-anew.js";
export { fetchUserinfo, parseClaims } from "./fetch-userinfo.js";
export { callbackUrl, finishDeviceSignIn, finishSignIn, requireAttempt } from "./finish-sign-in.js";
export type { Outcome } from "./settle-outcome.js";
export type { Identity } from "./identity.js";
export { isShown, mapProfile, mapSubject, pickClaims } from "./map-profile.js";
export {
  checkIdTokenClaims,
  requireClaims,
  validateIdToken,
  type IdTokenClaims,
} from "./validate-id-token.js";
export { validateLogoutToken, type LogoutNotice } from "./validate-logout-token.js";
