import { fail, quoted } from "../../problem/index.js";
import { routes } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { hostOf } from "../door/public-origin.js";
import { traceDocument, traceStyle } from "../pages/trace-page.js";

/**
 * What happened lately in this process, for the developer who runs it: only in development, on this machine, and to pages
 * of this app or to somebody who typed the address.
 *
 * @throws server.route-unknown everywhere else
 */
export async function traceRoute(context: Context, request: Request): Promise<Response> {
  const { recorder, settings, tools } = context;
  const { searchParams, pathname } = new URL(request.url);
  const site = request.headers.get("sec-fetch-site") ?? "none";
  // A name that somebody else has led to this machine is not this app's: no page of theirs reads this.
  const isOwn = hostOf(request) === new URL(settings.origin).host && ["none", "same-origin"].includes(site);
  if (!recorder || !isOwn) fail("server.route-unknown", { received: quoted(pathname) });
  const records = recorder.records();
  const [show, beside] = [searchParams.get("show"), searchParams.get("beside")];
  const headers = {
    "cache-control": "no-store",
    "referrer-policy": "no-referrer",
    "x-content-type-options": "nosniff",
  };
  if (searchParams.get("as") === "json") {
    const chosen = records.filter(({ id }) => show === null || id === show);
    return Response.json({ kind: "trace", records: chosen }, { headers });
  }
  const style = await tools.platform.crypto.digestText("SHA-256", traceStyle);
  const html = traceDocument({
    records,
    path: routes(settings).trace,
    ...(show !== null && { show }),
    ...(beside !== null && { beside }),
  });
  return new Response(html, {
    headers: {
      ...headers,
      "content-type": "text/html; charset=utf-8",
      "content-security-policy": `default-src 'none'; style-src 'sha256-${style}='; base-uri 'none'; form-action 'none'; frame-ancestors 'none'`,
    },
  });
}
