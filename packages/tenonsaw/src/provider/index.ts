export type { ProviderMetadata } from "./metadata.js";
export { openProvider, type Provider } from "./open-provider.js";
export { nearestName, parseSettings } from "./parse-settings.js";
export {
  providerSettings,
  resolveSecret,
  secretReference,
  secureUrl,
  type ClientAuthentication,
  type ProviderSettings,
} from "./settings.js";
