import type { Connecting, MachineFetch } from "../connection/index.js";
import type { Cookies } from "../session/index.js";
import type { BrowserStore } from "../stores/cookie.js";
import type { Answers } from "./answers.js";
import type { Providers } from "./providers.js";
import type { ResolvedSignInSettings, SignInSettings } from "./settings.js";
import type { Wording } from "./texts.js";

/** Everything the routes work with, assembled once. */
export interface Context extends Connecting, Pick<SignInSettings, "welcome"> {
  readonly settings: ResolvedSignInSettings;
  /** Where sessions are kept in their browsers: `store` is then that of the request at hand, or refuses. */
  readonly browserStore?: BrowserStore;

  readonly providers: Providers;
  readonly cookies: Cookies;
  readonly answers: Answers;
  /** What the pages say, in the language of a request. */
  readonly wordingOf: (request?: Request) => Wording;
  readonly machine: MachineFetch;
  readonly sweep: () => Promise<void>;
  /** Seconds until a request like this one is answered; undefined for at once. */
  readonly limitRate: NonNullable<SignInSettings["limitRate"]>;
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
    /** Where a form posts to that gives the person who is signed in another way to do so, or takes one away. */
    link: (provider: string) => `${basePath}/link/${provider}`,
    unlink: `${basePath}/unlink`,
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

/** Whether a request is a front end's, which wants data and no page. */
export function wantsJson(request: Request): boolean {
  const accept = request.headers.get("accept") ?? "";
  return accept.includes("application/json") && !accept.includes("text/html");
}

/** The page that offers the providers: the app's own, or the built-in one. */
export function chooserUrl({ settings }: Context, returnTo: string): string {
  const path = settings.pages.chooser ?? settings.basePath;
  return settings.origin + withParameter(path, "returnTo", returnTo);
}
