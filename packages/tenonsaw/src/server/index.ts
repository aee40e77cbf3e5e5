export { routes as signInRoutes } from "./context.js";
export { createSignIn, type SignIn, type Wish } from "./create-sign-in.js";
export { chooseEnvironment, type ChosenSettings } from "./choose-environment.js";
export {
  environmentSettings,
  type ResolvedSignInSettings,
  type SettingsData,
  type SignInSettings,
} from "./settings.js";
export { noteBodyRead } from "./front-door.js";
export { notePeer, originsOf } from "./public-origin.js";
export { readReturnPath } from "./return-path.js";
export { readSettingsText } from "./settings-text.js";
export type { ConnectionView, Session, SessionSummary } from "./session-view.js";
export type { ConnectionEvent } from "../connection/index.js";
export type { Visit, Welcome } from "./welcome.js";
export type { IdentityRecord, Store } from "../session/index.js";
export { readKeyRing } from "../session/index.js";
export { resolveSecret, type SecretReference } from "../provider/index.js";
