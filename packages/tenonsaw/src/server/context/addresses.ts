import type { ResolvedSignInSettings } from "../settings/settings-types.js";

type Place = Pick<ResolvedSignInSettings, "origin" | "basePath">;

/** The routes under the base path. */
export function routes({ origin, basePath }: Place) {
  return {
    chooser: basePath,
    begin: (provider: string) => `${basePath}/to/${provider}`,
    /** Where hosts open this app, and where a frame without cookies brings what a host has answered. */
    launch: `${origin}${basePath}/launch`,
    launchBack: `${basePath}/launch/back`,
    /**
     * The redirect URI of a provider, and of each tenant: one each, so that an answer is never taken for another's (RFC 9700 section
     * 4.4.2.2).
     */
    callback: (provider: string) => `${origin}${basePath}/from/${provider}`,
    /** What happened lately, in development. */
    trace: `${basePath}/trace`,
    /** Where a provider tells that somebody signed out there, from server to server and in a frame. */
    backChannelLogout: (provider: string) => `${origin}${basePath}/back-channel/${provider}`,
    frontChannelLogout: (provider: string) => `${origin}${basePath}/front-channel/${provider}`,
    /** The public parts of the app's own signing keys, for providers to verify by. */
    keySet: `${origin}${basePath}/keys`,
    /** Where a form posts to that gives the person who is signed in another way to do so, or takes one away. */
    link: (provider: string) => `${basePath}/link/${provider}`,
    unlink: `${basePath}/unlink`,
    /** Where a form posts to that connects an account, or ends a connection; and the list of them. */
    connect: (provider: string) => `${basePath}/connect/${provider}`,
    disconnect: `${basePath}/disconnect`,
    accounts: `${basePath}/accounts`,
    /** Where this app's pages call an API with the person's token. */
    relay: (api: string) => `${basePath}/relay/${api}`,
    /** What this app's pages may know of their browser's session, and where they are told that it is another one. */
    session: `${basePath}/session`,
    sessionEvents: `${basePath}/session/events`,
    signOut: `${basePath}/out`,
    /** The sign-out return URI, the same for all providers. */
    signedOut: `${origin}${basePath}/out/done`,
  };
}

/** The page that offers the providers: the app's own, or the built-in one. */
export function chooserUrl(
  { settings }: { readonly settings: Place & Pick<ResolvedSignInSettings, "pages"> },
  returnTo: string,
): string {
  const path = settings.pages.chooser ?? settings.basePath;
  return settings.origin + withParameter(path, "returnTo", returnTo);
}

/** What a link to begin a sign-in may ask for. */
export const begunWith = [
  "returnTo",
  "maxAge",
  "acrValues",
  "scope",
  "kind",
  "uiLocales",
  "loginHint",
  "in",
] as const;

/** `path` with a query parameter, whether it has a query already or not. */
export function withParameter(path: string, name: string, value: string): string {
  const url = new URL(path, "http://path.invalid");
  url.searchParams.set(name, value);
  return url.pathname + url.search + url.hash;
}

/** What an address has behind the base path; undefined where it is another. Most are, and are not taken apart for it. */
export function pathBelow(basePath: string, url: string): string | undefined {
  if (!url.includes(basePath) && !unusualAddress.test(url)) return undefined;
  const { pathname } = new URL(url);
  if (pathname !== basePath && !pathname.startsWith(`${basePath}/`)) return undefined;
  return pathname.slice(basePath.length);
}

/** What a URL parser takes out or reads otherwise (URL Standard 4.4): only then can a path be what is not written there. */
const unusualAddress = /\/\.|%2e|[\s\\]/i;

/** Whether a request is a front end's, which wants data and no page. */
export function wantsJson(request: Request): boolean {
  const accept = request.headers.get("accept") ?? "";
  return accept.includes("application/json") && !accept.includes("text/html");
}
