/** Whether `hostname`, as `URL` spells it, never leaves this machine (RFC 8252 section 8.3, RFC 6761 section 6.3). */
export function isLoopback(hostname: string): boolean {
  return (
    hostname === "localhost" ||
    hostname.endsWith(".localhost") ||
    hostname === "[::1]" ||
    /^127\.\d{1,3}\.\d{1,3}\.\d{1,3}$/.test(hostname)
  );
}

/** Whether what is sent to `hostname` may end up on this machine, by whichever of its names: more than are trusted as such. */
export function leadsHere(hostname: string): boolean {
  const bare = hostname.replace(/\.$/, "");
  // RFC 1122 section 3.2.1.3: this host on this network; RFC 4291 sections 2.5.2 and 2.5.5.2: the same, and IPv4 in IPv6.
  const mapped = /^\[::(?:ffff:)?([0-9a-f]{1,4}):[0-9a-f]{1,4}\]$/.exec(bare)?.[1];
  const inIpv4 = mapped === undefined ? undefined : Number.parseInt(mapped, 16) >> 8;
  return isLoopback(bare) || bare.startsWith("0.") || bare === "[::]" || inIpv4 === 127 || inIpv4 === 0;
}

/**
 * A URL, or undefined where the text is none. URL.canParse of Node 20, once it has been called often, says another thing than
 * this where letters beyond ASCII are in it.
 */
export function parseUrl(text: string, base?: string): URL | undefined {
  try {
    return new URL(text, base);
  } catch {
    return undefined;
  }
}

/** Whether the text is a URL. */
export function isUrl(text: string): boolean {
  return parseUrl(text) !== undefined;
}

/** Whether `url` is absolute, without user information or white space (which a parser drops), and https or loopback http. */
export function isSecureUrl(url: string): boolean {
  const parsed = parseUrl(url);
  if (!parsed || /\s/.test(url)) return false;
  const { protocol, hostname, username, password } = parsed;
  if (username !== "" || password !== "") return false;
  return protocol === "https:" || (protocol === "http:" && isLoopback(hostname));
}
