/** Whether a browser fetches an address beforehand, for somebody who may never go there; the second header is what older ones say. */
export function isAhead({ headers }: Request): boolean {
  return ["sec-purpose", "purpose"].some((name) => headers.get(name)?.startsWith("prefetch") === true);
}

/** Whether nobody is there yet: HEAD changes nothing (RFC 9110 section 9.2.1), and neither does what is fetched beforehand. */
export function isLooking(request: Request): boolean {
  return request.method === "HEAD" || isAhead(request);
}
