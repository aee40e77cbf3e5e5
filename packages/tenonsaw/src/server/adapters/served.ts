import { requireFit } from "../../trace/index.js";
import type { Guard } from "../../guard/index.js";
import type { Connections } from "../create-connections.js";
import type { SignIn } from "../sign-in.js";

/** What an adapter adapts: sign-in, or connected accounts for an app that has its own. */
export type Served = SignIn | Connections;

export function isSignIn(served: Served): served is SignIn {
  return "protect" in served;
}

/** @throws server.unfit-argument */
export function requireServed(served: Pick<Served, "handle" | "explain">): void {
  requireFit(
    served,
    ({ handle, explain }) => typeof handle === "function" && typeof explain === "function",
    "what createSignIn or createConnections has made",
  );
}

/** @throws server.unfit-argument */
export function requireGuard(guard: Pick<Guard, "parts">): Guard["parts"] {
  return requireFit(guard, ({ parts }) => typeof parts === "object", "what openGuard has made").parts;
}
