/** What a page needs of the line of travel when somebody signs in, or a token is renewed: loaded then. */
export { beginSignIn } from "../attempt/index.js";
export { refreshGrant, revokeGrant } from "../grant/index.js";
export { compareRefreshedIdToken, finishSignIn } from "../identity/index.js";
export { openProvider } from "../provider/index.js";
