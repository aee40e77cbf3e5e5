import { check } from "../trace/index.js";
import type { Context } from "./context.js";

/**
 * A POST from a page of this app: by `Origin`, or where a browser leaves that out, by `Sec-Fetch-Site`.
 *
 * @throws session.other-origin
 */
export function requireOwnPage({ tools, settings }: Context, request: Request): void {
  const origin = request.headers.get("origin");
  const site = request.headers.get("sec-fetch-site");
  const isOwn = origin === null ? site === "same-origin" : origin === settings.origin;
  check(tools, "session.other-origin", isOwn, () => ({
    received: `Origin ${origin ?? "absent"}, Sec-Fetch-Site ${site ?? "absent"}`,
    expected: `Origin ${settings.origin}`,
  }));
}
