export { assessToken, type Assessment } from "./assess.js";
export { openGuard } from "./open-guard.js";
export type { Guard, GuardParts } from "./guard.js";
export type { Actor, Caller } from "./caller.js";
export type { AnyCaller, CallNeeds, NeedsFor } from "./needs.js";
export { isRefusal, type Refusal } from "./refusal.js";
export type { DownstreamToken } from "./exchange.js";
export { callOf, type IncomingCall } from "./incoming.js";
export type {
  DownstreamApi,
  GuardClient,
  GuardCommon,
  GuardSettings,
  IntrospectionSettings,
  ReplayMarks,
  SignedCredentials,
  SignedRequestSettings,
  TokenFormat,
  TokenIssuer,
} from "./settings-types.js";
