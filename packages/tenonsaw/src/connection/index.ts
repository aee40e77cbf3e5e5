export { authorisedFetch, bearerToken, type Api } from "./authorised-fetch.js";
export { createBackOff, type BackOff } from "./back-off.js";
export { unsealGrant, unsealToken, type Connecting, type ConnectionEvent } from "./fresh-connection.js";
export { createMachineFetch, type MachineFetch } from "./machine-fetch.js";
export { createLeases, type Leases } from "./leases.js";
