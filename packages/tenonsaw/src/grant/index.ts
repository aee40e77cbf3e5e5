export { exchangeCode } from "./exchange-code.js";
export type { Grant } from "./grant.js";
export { refreshGrant } from "./refresh-grant.js";
export { revokeGrant } from "./revoke-grant.js";
