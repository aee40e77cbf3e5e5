export { parseChallenges, type Challenge } from "./challenges.js";
export { authenticateClient, formEncode } from "./authenticate-client.js";
export { missingOwnKeys, publicKeySet, readClientKeys } from "./client-keys.js";
export {
  checkIssuer,
  differsBecause,
  isIssuerOf,
  requireNamedIssuer,
  requireNoLoopback,
} from "./check-issuer.js";
export { deviationNotes, tenantSettings } from "./deviations.js";
export { fetchMetadata, metadataFreshSeconds, metadataUrl } from "./discover.js";
export { directEndpoint, readMembersBy, refuseMetadata, type ProviderMetadata } from "./metadata.js";
export { registerClient, type Registration } from "./register-client.js";
export { createDpopKey, signDpopProof, takeNonce } from "./dpop.js";
export { sendProven } from "./send-proven.js";
export { mistakesIn } from "./mistakes-in.js";
export { describeRefusal, readMembers } from "./read-refusal.js";
export {
  checkKind,
  clockToleranceSeconds,
  isAudience,
  isWithin,
  openToken,
  untrustedAudiences,
} from "./open-token.js";
export { openProvider } from "./open-provider.js";
export type { Provider, Registered } from "./settle-provider.js";
export { requireProvider } from "./require-provider.js";
export { requireTexts } from "./require-texts.js";
export { findAt } from "./pointers.js";
export { ownMembers } from "./own-members.js";
export { isAdmitted, tenantIn } from "./tenants.js";
export { nearestName, parseSettings, refuseSettings } from "./parse-settings.js";
export { bareText, isBare, strayOf, words } from "./bare-text.js";
export { claimKind, oddClaims, type ClaimRules } from "./odd-claims.js";
export { openHost } from "./host.js";
export { baseOf, isHost, type Host } from "./is-host.js";
export {
  handMetadata,
  originText,
  pointer,
  pointers,
  providerEntries,
  providerSettings,
  hasProof,
  missingKeys,
  missingSecret,
  scopes,
  scopeToken,
  resolveSecret,
  secretReference,
  secureUrl,
} from "./settings.js";
export type {
  ClientAuthentication,
  CommonProviderSettings,
  GivenKey,
  TenantSettings,
  With,
  Deviations,
  HandMetadata,
  KeyManagement,
  LaunchSettings,
  MemberType,
  Pointers,
  Profile,
  ProfileFunction,
  ProfileMapping,
  ProfilePointers,
  ProviderSettings,
  ResolvedProviderSettings,
  ResponseMode,
  ResponseType,
  SecretReference,
  SignatureAlgorithm,
} from "./settings-types.js";
