export {
  beginOAuth1SignIn,
  finishOAuth1SignIn,
  readOAuth1Token,
  type OAuth1Attempt,
} from "./oauth1-sign-in.js";
export { openOAuth1Provider, type OAuth1Provider } from "./open-oauth1-provider.js";
export { oauth1Entries, oauth1Settings } from "./settings.js";
export type {
  OAuth1Settings,
  ResolvedOAuth1Settings,
  SignatureMethod,
  Transmission,
} from "./settings-types.js";
export { signOAuth1Request, type OAuth1Request, type OAuth1Token } from "./sign-oauth1-request.js";
export {
  isSignedByKey,
  macParts,
  percentEncode,
  signatureBaseString,
  type Parameters,
  type SignedParts,
} from "./signature.js";
