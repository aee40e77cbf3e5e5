import { requireResponse } from "../../trace/index.js";

/** The header by which a page says which launch it is of; in addresses the parameter `launched` does. */
export const launchHeader = "tenonsaw-launch";
/** By which it says for whom it was drawn. */
export const personHeader = "tenonsaw-person";
/** By which a call says which of the person's accounts it is for. */
export const accountHeader = "tenonsaw-account";

/** All that chooses an answer of the relay, or whether there is one. A cache that leaves one out gives the answer of another. */
const choosing = ["cookie", launchHeader, personHeader, accountHeader, "sec-fetch-dest", "sec-fetch-mode"];

/** What of an API's answer describes its content; everything else is between that API and this app. */
const describing = [
  "accept-ranges",
  "cache-control",
  "content-disposition",
  "content-language",
  "content-range",
  "content-type",
  "etag",
  "expires",
  "last-modified",
  "retry-after",
  "vary",
];

/**
 * What a browser may keep of an answer of the relay it may give again only after it has asked here: by then the account may have been
 * disconnected, the session may be over, or the request may be a script tag's (RFC 9111 section 5.2.2.4).
 */
export function passOnToPage(given: Response): Response {
  const passed = passOn(given);
  const kept = passed.headers.get("cache-control") ?? "";
  if (!/(^|[\s,])no-store/i.test(kept)) passed.headers.set("cache-control", "private, no-cache");
  passed.headers.delete("expires");
  return passed;
}

/**
 * An API's answer, to be sent on to this app's own page: status, content and what describes it. The API's cookies, its
 * rules for browsers (CORS, CSP, HSTS) and its challenges stay here, and so does how it was compressed: `fetch` has undone
 * that (RFC 9110 section 8.4), and a browser told otherwise could not read it.
 *
 * @param given of `session.fetch` and the like; its content streams through
 * @throws server.not-a-response
 */
export function passOn(given: Response): Response {
  const answer = requireResponse(given);
  // Nothing of another origin runs at this one, whatever type it says it is; what is a person's own is kept by nobody
  // who was not told to.
  const headers = new Headers({
    "x-content-type-options": "nosniff",
    "content-security-policy": "default-src 'none'; sandbox",
    "cache-control": "no-store",
  });
  for (const name of describing) {
    const value = answer.headers.get(name);
    if (value !== null) headers.set(name, value);
  }
  // Nor is it for whoever signs in next in this browser, for another launch or account, or for a script tag (section 4.1).
  headers.append("vary", choosing.join(", "));
  const kept = answer.headers.get("cache-control");
  if (kept !== null && !/(^|[\s,])(public|s-maxage)/i.test(kept)) keepForOne(headers, kept);
  // RFC 9110 section 15: what is no status of HTTP's counts as one of a server that failed.
  const status = answer.status <= 599 ? answer.status : 502;
  return new Response(answer.body, { status, headers });
}

/**
 * RFC 9111 section 3.5: what came for a token is one person's, unless the API says that it is everybody's; and a cache in front of
 * this app sees no token. The strict reading: `must-revalidate` does not say so.
 */
function keepForOne(headers: Headers, directives: string): void {
  const isSaid = /(^|[\s,])(no-store|private(?!=))/i.test(directives);
  if (!isSaid) headers.set("cache-control", [directives, "private"].filter(Boolean).join(", "));
}
