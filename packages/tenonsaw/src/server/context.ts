import type { Connecting, MachineFetch } from "../connection/index.js";
import type { Cookies } from "../session/index.js";
import type { Answers } from "./answers.js";
import type { Providers } from "./providers.js";
import type { ResolvedSignInSettings } from "./settings.js";

/** Everything the routes work with, assembled once. */
export interface Context extends Connecting {
  readonly settings: ResolvedSignInSettings;
  readonly providers: Providers;
  readonly cookies: Cookies;
  readonly answers: Answers;
  readonly machine: MachineFetch;
  readonly sweep: () => Promise<void>;
}

/** The routes under the base path. */
export function routes(settings: Pick<ResolvedSignInSettings, "origin" | "basePath">) {
  const { origin, basePath } = settings;
  return {
    chooser: basePath,
    begin: (provider: string) => `${basePath}/to/${provider}`,
    /** The redirect URI of a provider: one each, so that an answer is never taken for another's. */
    callback: (provider: string) => `${origin}${basePath}/from/${provider}`,
    /** Where a provider tells that somebody signed out there, from server to server and in a frame. */
    backChannelLogout: (provider: string) => `${origin}${basePath}/back-channel/${provider}`,
    frontChannelLogout: (provider: string) => `${origin}${basePath}/front-channel/${provider}`,
    /** The public parts of the app's own signing keys, for providers to verify by. */
    keySet: `${origin}${basePath}/keys`,
    signOut: `${basePath}/out`,
    /** The sign-out return URI, the same for all providers. */
    signedOut: `${origin}${basePath}/out/done`,
  };
}

/** `path` with a query parameter, whether it has a query already or not. */
export function withParameter(path: string, name: string, value: string): string {
  const url = new URL(path, "http://path.invalid");
  url.searchParams.set(name, value);
  return url.pathname + url.search + url.hash;
}
