import type { Connections } from "../create-connections.js";
import type { SignIn } from "../sign-in.js";

/** What an adapter adapts: sign-in, or connected accounts for an app that has its own. */
export type Served = SignIn | Connections;

export function isSignIn(served: Served): served is SignIn {
  return "protect" in served;
}
