export { authorisedFetch, bearerToken, fetchWithGrant, requireScope } from "./authorised-fetch.js";
export { resolveApiUrl, resolveAtOrigin, type Api } from "./api-address.js";
export { createBackOff, type BackOff } from "./back-off.js";
export type { Connecting, ConnectionEvent, Holder, Renewed } from "./connecting.js";
export { unsealContext, unsealGrant, unsealReplaced, unsealToken } from "./tokens.js";
export { createMachineFetch, type MachineFetch } from "./machine-fetch.js";
export { requireServerCall } from "./require-call.js";
export { createStubborn, type Stubborn } from "./stubborn.js";
export { createLeases, type Leases } from "./leases.js";
