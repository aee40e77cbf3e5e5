import { parseCookie, stringifySetCookie } from "cookie";
import { limits } from "../platform/index.js";
import { fail } from "../problem/index.js";

/** A Cookie header longer than this is not read (RFC 6265 section 6.1 asks for 4 KiB a cookie). */
export const longestCookieHeader = limits.cookieHeader;

const opaqueValue = /^[A-Za-z0-9_-]{43}$/;

const sealedText = /^[A-Za-z0-9_.-]+$/;

export type CookieName = "session" | "browser" | "launch" | "sign-out";

/** Reads and writes this app's cookies; their names and flags follow from whether the app is on https. */
export interface Cookies {
  /** The value, or undefined where it is absent or not one of ours: tampered, cut, or of another shape. */
  read(request: Request, name: CookieName): string | undefined;
  /**
   * @param maxAgeSeconds Default: until the browser is closed
   * @param isFramed for a page in a frame of another site: kept apart for that site (CHIPS), where the browser can
   */
  write(name: CookieName, value: string, maxAgeSeconds?: number, isFramed?: boolean): string;
  clear(name: CookieName): string;
  /** The values of the cookies whose names begin so, by what follows: sealed text, or nothing of ours. */
  readSealed(request: Request, beginning: SealedName): ReadonlyMap<string, string>;
  /** @param value Default: clears it */
  writeSealed(name: `${SealedName}${string}`, value?: string, maxAgeSeconds?: number): string;
}

/** What is kept in the browser itself, sealed, where the store is there. */
export type SealedName = "kept-" | "attempt-";

/**
 * RFC 6265 section 4.1.2, with the `__Host-` prefix: from this very host, over https, for every path. A browser
 * refuses prefix and Secure on http, so on loopback http the name is plain.
 *
 * @param prefix what the names begin with: letters, digits and -
 */
export function createCookies(origin: string, prefix = "tenonsaw"): Cookies {
  const isHttps = new URL(origin).protocol === "https:";
  const nameOf = (name: string) => `${isHttps ? "__Host-" : ""}${prefix}-${name}`;
  // One regular expression for one cookie: the session's is looked for with every request, among whatever others there are.
  const patternOf = (name: CookieName) => new RegExp(`(?:^|;)[ \\t]*${nameOf(name)}=([^;]*)`);
  const patterns = {
    session: patternOf("session"),
    browser: patternOf("browser"),
    launch: patternOf("launch"),
    "sign-out": patternOf("sign-out"),
  };
  const write = (name: string, value: string, maxAge?: number, isFramed = false) =>
    stringifySetCookie({
      name: nameOf(name),
      value,
      ...(maxAge !== undefined && { maxAge }),
      path: "/",
      httpOnly: true,
      // SameSite=None and Partitioned take Secure, which browsers accept from http on loopback.
      secure: isHttps || isFramed,
      sameSite: isFramed ? "none" : "lax",
      ...(isFramed && { partitioned: true }),
    });
  const headerOf = (request: Request) => {
    const header = request.headers.get("cookie") ?? "";
    return header.length > longestCookieHeader ? "" : header;
  };
  return {
    read(request, name) {
      const value = patterns[name].exec(headerOf(request))?.[1]?.trim();
      return value !== undefined && opaqueValue.test(value) ? value : undefined;
    },
    write,
    clear: (name) => write(name, "", 0),
    readSealed(request, beginning) {
      const start = nameOf(beginning);
      const found = Object.entries(parseCookie(headerOf(request))).filter(
        ([name, value]) =>
          name.startsWith(start) && sealedText.test(name) && value !== undefined && sealedText.test(value),
      );
      return new Map(found.map(([name, value = ""]) => [name.slice(start.length), value]));
    },
    writeSealed: (name, value = "", maxAge = 0) => write(name, value, value === "" ? 0 : maxAge),
  };
}

/** @throws server.request-too-large */
export function requireReadableCookies(request: Request): void {
  const length = request.headers.get("cookie")?.length ?? 0;
  if (length > longestCookieHeader) {
    fail("server.request-too-large", {
      received: `a Cookie header of ${length} characters`,
      because: "cookies",
    });
  }
}
