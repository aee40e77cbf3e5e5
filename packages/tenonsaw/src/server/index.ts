export { routes as signInRoutes } from "./context/addresses.js";
export { createConnections, type Connections, type OwnSignIn } from "./create-connections.js";
export type { Handler } from "./create-handler.js";
export { createSignIn } from "./create-sign-in.js";
export type { Connectable } from "./connections/connectable.js";
export { passOn } from "./door/pass-on.js";
export { describeReport, type ProblemReport } from "../trace/index.js";
export type { Launch, PersonForPages, SessionNow } from "../session/index.js";
export type { ContextReference, LaunchContext } from "../launch/index.js";
export type { Needs } from "./sessions/admit.js";
export type { Wish } from "./routes/ask.js";
export type { SignIn } from "./sign-in.js";
export { chooseEnvironment, type ChosenSettings } from "./settings/choose-environment.js";
export type {
  AccountSettings,
  AnyProviderSettings,
  ApiSettings,
  ConfirmationSettings,
  ConnectionSettings,
  EnvironmentSettings,
  PageSettings,
  ProxySettings,
  ResolvedSignInSettings,
  SessionKindSettings,
  SettingsData,
  SharedSettings,
  SignInSettings,
  SignInSettingsFromFile,
  SignOutSettings,
  TextSettings,
  ThemeSettings,
  Visit,
  Welcome,
} from "./settings/settings-types.js";
export { noteBodyRead } from "../trace/index.js";
export { pickClaims } from "../identity/index.js";
export { notePeer, originsOf } from "./door/public-origin.js";
export { readReturnPath } from "./door/return-path.js";
export { readSettingsText } from "./settings/settings-text.js";
export type { PersonRecord } from "../session/index.js";
export type { ProviderEntry } from "./settings/providers.js";
export type { AccountView } from "./connections/accounts.js";
export type { AccountChoice, CallInit } from "./connections/call.js";
export type { ConnectionView, Session, SessionSummary } from "./connections/session-view.js";
export type { ConnectionEvent } from "../connection/index.js";
export type { IdentityRecord, Store } from "../session/index.js";
export { readKeyRing } from "../session/index.js";
export { resolveSecret, type SecretReference } from "../provider/index.js";
