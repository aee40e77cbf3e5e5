export { isHost } from "../provider/index.js";
export {
  missingCapabilities,
  neededCapabilities,
  requireCapabilities,
  type LaunchFrom,
  type Need,
} from "./capabilities.js";
export { beginLaunch, launchScope, requireLaunchValue, resolveUser } from "./begin-launch.js";
export {
  readContext,
  renewContext,
  told,
  type ContextReference,
  type LaunchContext,
  type Remembered,
} from "./context.js";
export { findHost, type DeclaredHost, type FoundHost } from "./find-host.js";
export {
  explainScope,
  isMiswritten,
  missingScopes,
  readResourceScope,
  type Interaction,
  type ResourceScope,
} from "./scopes.js";
export { confirmToken } from "./confirm-token.js";
export { fetchStyle } from "./style.js";
