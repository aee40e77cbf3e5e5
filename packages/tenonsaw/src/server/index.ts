export { routes as signInRoutes } from "./context.js";
export { createSignIn, type SignIn } from "./create-sign-in.js";
export { readSignInSettings, type SignInSettings } from "./settings.js";
export type { ConnectionView, Session } from "./session-view.js";
export type { Store } from "../session/index.js";
