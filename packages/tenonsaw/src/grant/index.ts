export { exchangeToken, requestAssertionToken, type TokenExchange } from "./assertion-grants.js";
export { awaitDeviceGrant, requestDeviceCode, type DeviceRequest } from "./device.js";
export { exchangeCode } from "./exchange-code.js";
export { requireGrant, type Grant } from "./grant.js";
export { requestClientToken } from "./request-client-token.js";
export { refreshGrant, targetParameters, type TokenTarget } from "./refresh-grant.js";
export { revokeGrant } from "./revoke-grant.js";
export { isScope } from "./scope.js";
