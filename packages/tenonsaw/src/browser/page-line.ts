/** What a page needs of the line of travel when somebody signs in, or a token is renewed: loaded then. */
export { beginSignIn } from "../attempt/index.js";
export { revokeGrant } from "../grant/index.js";
export { finishSignIn } from "../identity/index.js";
// With what it loads: a page waits for one file less.
export { settleProvider } from "../provider/settle-provider.js";
export { renewTokens } from "./renew-tokens.js";
