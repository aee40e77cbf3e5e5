import { parseUrl, isPlainPath } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { requireFit } from "../trace/index.js";
import type { Wanted } from "./tokens.js";

/** An API the app may call: whose tokens it takes, and the one origin they may go to. */
export interface Api extends Wanted {
  readonly origin: string;
  /** Where it begins at that origin, for an API at a host that has opened this app: paths are below it, and so are whole URLs. */
  readonly base?: string | undefined;
  /** Which of its paths a redirect may lead to, by which method; every one where that is left out. */
  readonly mayFollow?: (path: string, method: string) => boolean;
  /** Scope of the app's own access tokens, for calls without a person. */
  readonly clientScope?: string | undefined;
}

/** A part of an origin that an API is: its redirects stay there. */
export interface Bounds {
  readonly base?: string;
  readonly holds: (url: URL, method: string) => boolean;
}

/** Where calls of an API stay, whatever its redirects say; undefined where that is all of its origin. */
export function boundsOf({ base, mayFollow }: Pick<Api, "base" | "mayFollow">): Bounds | undefined {
  if (base === undefined && !mayFollow) return undefined;
  const from = base === undefined ? 0 : new URL(base).pathname.replace(/\/$/, "").length;
  return {
    ...(base !== undefined && { base }),
    holds: (url, method) =>
      (base === undefined || isBelow(base, url)) && mayFollow?.(url.pathname.slice(from), method) !== false,
  };
}

/**
 * The address of a call to an API: below its base, or else at its origin, and nowhere else.
 *
 * @param path - A path, or a whole URL there, such as the next page of a list.
 * @throws connection.other-origin, server.unfit-argument
 */
export function resolveApiUrl(api: Pick<Api, "base" | "origin">, path: string): string {
  requireFit(
    api,
    ({ base, origin }) => typeof (base ?? origin) === "string",
    "an API: { origin } or { base }",
  );
  requireFit(path, (given) => typeof given === "string", "a path, as a text");
  return api.base === undefined ? resolveAtOrigin(api.origin, path) : resolveBelow(api.base, path);
}

/** @throws connection.other-origin */
export function resolveAtOrigin(origin: string, path: string): string {
  const url = parseUrl(path, origin);
  if (url?.origin !== origin) {
    fail("connection.other-origin", {
      received: quoted(path),
      expected: `a path, or a URL at ${origin}`,
    });
  }
  return url.href;
}

/** A path below a base, or a whole URL there, such as the next page of a list. */
function resolveBelow(base: string, path: string): string {
  const url = parseUrl(path) ?? parseUrl(`${base}/${path.replace(/^\//, "")}`);
  if (url && isBelow(base, url)) return url.href;
  return fail("connection.other-origin", {
    received: quoted(path),
    expected: `a path, or a URL below ${base}`,
  });
}

/** Whether a URL is below a base, as whoever gets it will read it. */
export function isBelow(base: string, { origin, pathname, username, password }: URL): boolean {
  const below = new URL(base);
  const isPlain = isPlainPath(pathname.slice(below.pathname.length));
  const isUnder = pathname === below.pathname || pathname.startsWith(`${below.pathname.replace(/\/$/, "")}/`);
  return origin === below.origin && username === "" && password === "" && isUnder && isPlain;
}
