import { parseUrl, limits } from "../../platform/index.js";
import { note, shapeOf, type Tools } from "../../trace/index.js";
import { fail, quoted } from "../../problem/index.js";

/**
 * The path a person returns to after signing in: of this app, whatever the spelling. A browser reads `//host`,
 * `/\host` and `/<tab>/host` as addresses of other hosts, so the text is resolved as a browser would do it and has
 * to come out at this origin, as a path that cannot be mistaken for a host when it stands alone.
 *
 * @param home where to go when the text says nothing
 * @throws server.return-path-refused
 */
export function readReturnPath(origin: string, text: string | null | undefined, home = "/"): string {
  if (text === null || text === undefined || text === "") return home;
  // As a framework has it that was sent several of them.
  if (typeof text !== "string") fail("server.return-path-refused", { received: shapeOf(text) });
  // Control characters and backslashes have no place in a path, and browsers disagree on what they mean.
  const isPlain =
    text.startsWith("/") && text.length <= limits.returnPath && !/[\u0000-\u0020\\\u007f]/.test(text);
  const url = isPlain ? parseUrl(text, origin) : undefined;
  if (url?.origin !== origin || url.pathname.startsWith("//")) {
    const length = text.length > limits.returnPath ? `, ${text.length} characters` : "";
    fail("server.return-path-refused", { received: `${quoted(text)}${length}` });
  }
  return url.pathname + url.search + url.hash;
}

/** The path to return to after a visit to `url`: as much of it as can be kept, and said where that is not all. */
export function returnPathOf(tools: Tools, url: string): string {
  const { pathname, search } = new URL(url);
  const whole = pathname + search;
  if (whole.length <= limits.returnPath) return whole;
  const length = String(whole.length);
  note(tools, "server", "the address is too long to return to: its query is left out", { length });
  return pathname.length <= limits.returnPath ? pathname : "/";
}
