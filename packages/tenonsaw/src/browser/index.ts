export type { Asking, ProblemAtHand } from "./askings.js";
export { followSession, type FollowedSession, type FollowOptions, type Now } from "./follow-session.js";
export {
  createPageSession,
  type PageAccounts,
  type PageCallInit,
  type PageSession,
  type ServedPageSession,
  type SignInWish,
} from "./page-session.js";
export { applyLaunchStyle, launchHere } from "./launch-here.js";
export type { Ending, Where } from "./windows.js";
export type { Launch, PersonForPages, SessionNow } from "../session/index.js";
export { openPageSignIn, type PageClientSession, type PageSignInOptions } from "./page-sign-in.js";
