/** What a page needs of the line of travel when somebody signs in, or a token is renewed: loaded then. */
export { beginSignIn } from "../attempt/index.js";
export { revokeGrant } from "../grant/index.js";
export { finishSignIn } from "../identity/index.js";
export { openProvider } from "../provider/index.js";
export { renewTokens } from "./renew-tokens.js";
