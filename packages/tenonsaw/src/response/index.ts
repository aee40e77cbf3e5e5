export { readResponse, readState, type AuthorizationResponse } from "./read-response.js";
