import type { ResolvedSignInSettings } from "./settings-types.js";

/** How accounts of a provider are connected; undefined where they are not. */
export function connectionSettings(
  { connections }: Pick<ResolvedSignInSettings, "connections">,
  provider: string,
): ResolvedSignInSettings["connections"][string] | undefined {
  return Object.hasOwn(connections, provider) ? connections[provider] : undefined;
}

/** Whether people sign in with a provider: all but those that are there for connecting accounts alone. */
export function isForSignIn(
  settings: Pick<ResolvedSignInSettings, "connections">,
  provider: string,
): boolean {
  return connectionSettings(settings, provider)?.alsoForSignIn ?? true;
}
