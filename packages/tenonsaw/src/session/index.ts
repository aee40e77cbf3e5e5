export { createCookies, requireReadableCookies, type CookieName, type Cookies } from "./cookie.js";
export { isSealedWithRetired, readKeyRing, seal, unseal, type KeyRing } from "./key-ring.js";
export {
  apiTokenPlace,
  beginSession,
  endSession,
  endSessions,
  hashId,
  linkIdentity,
  randomId,
  readSession,
  sealGrant,
  tokenPlace,
  type Granted,
  type Keeping,
  type SessionLimits,
  type TokenKind,
} from "./session.js";
export type {
  ApiTokenRecord,
  AttemptRecord,
  ConnectionRecord,
  FoundSession,
  IdentityRecord,
  LinkRecords,
  PersonRecord,
  SessionQuery,
  SessionRecord,
  SignInRecords,
  Store,
} from "./store.js";
