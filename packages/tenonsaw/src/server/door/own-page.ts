import { parseUrl } from "../../platform/index.js";
import type { CauseOf } from "../../problem/index.js";
import { check, type Tools } from "../../trace/index.js";
import { hostOf } from "./public-origin.js";

/**
 * Whether a request comes from a page of this app: by `Origin`, or where a browser does not tell it, by `Sec-Fetch-Site`. A
 * page with the policy `no-referrer` sends `Origin: null` (Fetch Standard 3.1), and so does one in a sandbox or of another
 * site: only `Sec-Fetch-Site`, which no page can set, tells them apart.
 */
export function isFromOwnPage(ownOrigin: string, request: Request): boolean {
  const origin = toldOrigin(request);
  return origin === undefined
    ? request.headers.get("sec-fetch-site") === "same-origin"
    : origin === ownOrigin;
}

function toldOrigin(request: Request): string | undefined {
  const origin = request.headers.get("origin");
  return origin === null || origin === "null" ? undefined : origin;
}

/** @throws session.other-origin */
export function requireOwnPage(
  { tools, settings }: { readonly tools: Tools; readonly settings: { readonly origin: string } },
  request: Request,
): void {
  check(tools, "session.other-origin", isFromOwnPage(settings.origin, request), () => ({
    received: `Origin ${request.headers.get("origin") ?? "absent"}, Sec-Fetch-Site ${request.headers.get("sec-fetch-site") ?? "absent"}`,
    // Where it is told, the origin alone decides.
    expected:
      toldOrigin(request) === undefined
        ? `Origin ${settings.origin}, or Sec-Fetch-Site same-origin`
        : `Origin ${settings.origin}`,
    because: strangeBecause(settings.origin, request),
  }));
}

/** Where it comes from instead, as far as a browser tells; undefined for another site. */
function strangeBecause(ownOrigin: string, request: Request): CauseOf<"session.other-origin"> | undefined {
  const origin = toldOrigin(request) ?? "";
  const site = request.headers.get("sec-fetch-site");
  if (site === "none") return "by-hand";
  const from = parseUrl(origin);
  if (!from) return site === null ? "untold" : site === "same-site" ? "neighbour" : undefined;
  if (from.host === hostOf(request)) return "other-address";
  const isNear = site === null ? from.hostname === new URL(ownOrigin).hostname : site === "same-site";
  return isNear ? "neighbour" : undefined;
}
