export { fetchUserinfo } from "./fetch-userinfo.js";
export { finishSignIn, type Outcome } from "./finish-sign-in.js";
export { readProfile, type Identity, type Profile } from "./identity.js";
export {
  checkIdTokenClaims,
  clockToleranceSeconds,
  requireClaims,
  validateIdToken,
  type IdTokenClaims,
} from "./validate-id-token.js";
