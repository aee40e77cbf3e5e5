export { createCookies, requireReadableCookies, type CookieName, type Cookies } from "./cookie.js";
export { readKeyRing, seal, unseal, type KeyRing } from "./key-ring.js";
export {
  beginSession,
  endSession,
  hashId,
  linkIdentity,
  randomId,
  readSession,
  sealGrant,
  tokenPlace,
  type Granted,
  type Keeping,
  type TokenKind,
} from "./session.js";
export type {
  AttemptRecord,
  ConnectionRecord,
  IdentityRecord,
  LinkRecords,
  PersonRecord,
  SessionQuery,
  SessionRecord,
  SignInRecords,
  Store,
} from "./store.js";
