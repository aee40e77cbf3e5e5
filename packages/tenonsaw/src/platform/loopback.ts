/** Whether `hostname`, as `URL` spells it, never leaves this machine (RFC 8252 section 8.3, RFC 6761 section 6.3). */
export function isLoopback(hostname: string): boolean {
  return (
    hostname === "localhost" ||
    hostname.endsWith(".localhost") ||
    hostname === "[::1]" ||
    /^127\.\d{1,3}\.\d{1,3}\.\d{1,3}$/.test(hostname)
  );
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
