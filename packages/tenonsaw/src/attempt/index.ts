export { attemptLifetimeSeconds, beginSignIn, type Attempt, type SignInRequest } from "./begin-sign-in.js";
export { codeChallenge } from "./pkce.js";
