import type { Platform } from "../platform/index.js";
import type { IncomingCall } from "./incoming.js";
import { refusalsPolicy, refusalsStyle } from "./refusals.js";

export const refusalsPath = "/guard/refusals";

type Origins = "any" | readonly string[] | undefined;

/** What an answer needs so that a page of another origin can read it: the CORS protocol (Fetch Standard, 3.3). */
export function crossOriginHeaders(
  pageOrigins: Origins,
  call: Pick<IncomingCall, "header">,
): Readonly<Record<string, string>> {
  if (pageOrigins === undefined) return {};
  const exposed = { "access-control-expose-headers": "WWW-Authenticate, DPoP-Nonce, Retry-After" };
  if (pageOrigins === "any") return { "access-control-allow-origin": "*", ...exposed };
  const from = call.header("origin");
  const isKnown = from !== undefined && pageOrigins.includes(from);
  return { vary: "Origin", ...(isKnown && { "access-control-allow-origin": from, ...exposed }) };
}

/** Whether a page asks beforehand: it has no token then, and is answered without one. */
export function isPreflight(call: IncomingCall): boolean {
  return (
    call.method === "OPTIONS" &&
    call.header("origin") !== undefined &&
    call.header("access-control-request-method") !== undefined
  );
}

export function preflightAnswer(pageOrigins: Origins, call: IncomingCall): Response {
  const headers = crossOriginHeaders(pageOrigins, call);
  if (headers["access-control-allow-origin"] === undefined)
    return new Response(null, { status: 204, headers });
  const asked = call.header("access-control-request-headers") ?? "";
  return new Response(null, {
    status: 204,
    headers: {
      ...headers,
      "access-control-allow-methods": "GET, HEAD, POST, PUT, PATCH, DELETE",
      // By name: `*` would not cover Authorization (Fetch Standard, 3.3.2).
      "access-control-allow-headers": /^[\w\-, ]{1,500}$/.test(asked)
        ? asked
        : "Authorization, DPoP, Content-Type",
      "access-control-max-age": "600",
    },
  });
}

/** RFC 9728 section 3.2: for everybody, pages among them; there is nothing in it that is not public. */
export function metadataAnswer(about: object): Response {
  return Response.json(about, {
    headers: { "access-control-allow-origin": "*", "cache-control": "max-age=300" },
  });
}

export async function refusalsAnswer(platform: Platform, page: string): Promise<Response> {
  const hash = await platform.crypto.digestText("SHA-256", refusalsStyle);
  return new Response(page, {
    headers: {
      "content-type": "text/html; charset=utf-8",
      "content-security-policy": refusalsPolicy(hash),
      "cache-control": "no-store",
      "referrer-policy": "no-referrer",
      "x-content-type-options": "nosniff",
    },
  });
}
