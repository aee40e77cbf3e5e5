export { createCookies, requireReadableCookies, type CookieName, type Cookies } from "./cookie.js";
export {
  isSealedWithRetired,
  readKeyRing,
  requireRandomKeys,
  seal,
  unseal,
  type KeyRing,
} from "./key-ring.js";
export {
  apiTokenPlace,
  beginSession,
  hashId,
  linkIdentity,
  randomId,
  readSession,
  sessionIdOf,
  sealGrant,
  tokenPlace,
  type Granted,
  type Keeping,
  type OpenedSession,
  type SessionLimits,
  type TokenOwner,
  type TokenKind,
} from "./session.js";
export type {
  ApiTokenRecord,
  AttemptRecord,
  ConnectionRecord,
  FoundSession,
  IdentityRecord,
  KeptConnection,
  KeptQuery,
  Lease,
  LeaseAnswer,
  LinkOutcome,
  LinkRecords,
  PersonRecord,
  PopUp,
  SessionQuery,
  SessionRecord,
  SignedIn,
  SignInRecords,
  Store,
  Swept,
} from "./store.js";
export type { Launch, PersonForPages, SessionNow } from "./session-now.js";
export { attemptMemorySeconds, isOver, tombstoneOf } from "./store.js";
