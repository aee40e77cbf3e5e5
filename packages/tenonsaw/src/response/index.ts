export { readResponse, readState, type AuthorizationResponse } from "./read-response.js";
export { unpackResponse } from "./unpack-response.js";
