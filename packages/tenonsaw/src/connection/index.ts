export { authorisedFetch, type Api } from "./authorised-fetch.js";
export { unsealGrant, unsealToken, type Connecting } from "./fresh-connection.js";
export { createMachineFetch, type MachineFetch } from "./machine-fetch.js";
export { createLeases, type Leases } from "./leases.js";
