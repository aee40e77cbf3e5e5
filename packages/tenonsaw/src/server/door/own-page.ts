import { check } from "../../trace/index.js";
import type { Tools } from "../../trace/index.js";

/**
 * A POST from a page of this app: by `Origin`, or where a browser does not tell it, by `Sec-Fetch-Site`. A page with the
 * policy `no-referrer` sends `Origin: null` (Fetch Standard 3.1), and so does one in a sandbox or of another site: only
 * `Sec-Fetch-Site`, which no page can set, tells them apart.
 *
 * @throws session.other-origin
 */
export function requireOwnPage(
  { tools, settings }: { readonly tools: Tools; readonly settings: { readonly origin: string } },
  request: Request,
): void {
  const origin = request.headers.get("origin");
  const site = request.headers.get("sec-fetch-site");
  const isTold = origin !== null && origin !== "null";
  const isOwn = isTold ? origin === settings.origin : site === "same-origin";
  check(tools, "session.other-origin", isOwn, () => ({
    received: `Origin ${origin ?? "absent"}, Sec-Fetch-Site ${site ?? "absent"}`,
    expected: `Origin ${settings.origin}, or Sec-Fetch-Site same-origin`,
  }));
}
