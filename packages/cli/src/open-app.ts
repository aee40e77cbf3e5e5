import {
  createConnections,
  createSignIn,
  type Connections,
  type ResolvedSignInSettings,
  type SignIn,
  type Store,
} from "tenonsaw/server";
import type { Platform } from "tenonsaw";

/** What an operator does with people's connections. */
export type OpenedApp = Pick<SignIn & Connections, "fetchFor" | "disconnect">;

/** The app that a settings file is of: where all of its providers are for connecting, it has its own sign-in. */
export function openApp(
  settings: ResolvedSignInSettings,
  parts: { readonly store: Store; readonly platform?: Platform },
): Promise<OpenedApp> {
  const names = Object.keys({ ...settings.providers, ...settings.oauth1Providers });
  const isForConnecting = (name: string) =>
    Object.hasOwn(settings.connections, name) && settings.connections[name]?.alsoForSignIn !== true;
  return names.every(isForConnecting)
    ? createConnections({ ...settings, ...parts, personOf: () => undefined })
    : createSignIn({ ...settings, ...parts });
}
