import ipaddr from "ipaddr.js";
import { parseUrl, limits } from "../../platform/index.js";
import { fail, quoted, visible } from "../../problem/index.js";
import { check, requireRequest, type Tools } from "../../trace/index.js";
import type { ResolvedSignInSettings } from "../settings/settings-types.js";

type Proxies = NonNullable<ResolvedSignInSettings["proxies"]>;

/** What one proxy says of the request it received. */
interface Hop {
  readonly client?: string | undefined;
  readonly scheme?: string | undefined;
  readonly host?: string | undefined;
}

const peers = new WeakMap<Request, string>();

/**
 * Says from which address a request reached this process; adapters call it, as nodeListener does.
 *
 * @throws server.not-a-request
 */
export function notePeer(request: Request, address: string | undefined): void {
  requireRequest(request);
  if (address !== undefined) peers.set(request, address);
}

const originals = new WeakMap<Request, unknown>();

/** Says what a framework calls this request; adapters call it. */
export function noteOriginal(request: Request, original: unknown): void {
  originals.set(request, original);
}

/** What the framework calls it; undefined where none stands in between. */
export function originalOf(request: Request): unknown {
  return originals.get(request);
}

/** All the origins at which browsers may see this app, the main one first. */
export function originsOf({
  origin,
  proxies,
}: Pick<ResolvedSignInSettings, "origin" | "proxies">): readonly string[] {
  return [origin, ...(proxies?.otherOrigins ?? [])];
}

/** What is known of where a request comes from. */
export interface Whence {
  /** The origin at which the browser sees this app. */
  readonly origin: string;
  /** The address that the outermost named proxy saw, or else this process; where an adapter has told. */
  readonly peer?: string;
}

/**
 * Where the browser that sent a request sees this app. Without `proxies` that is `origin`, whatever the request says.
 * With them it is what the outermost named proxy says (RFC 7239 sections 4 and 5, or the X-Forwarded-* headers), and
 * has to be one of the origins in the settings: a header alone makes nothing true.
 *
 * @throws server.origin-unknown, server.request-too-large
 */
export function createOriginReader(
  tools: Tools,
  settings: Pick<ResolvedSignInSettings, "origin" | "proxies">,
): (request: Request) => Whence {
  const { origin, proxies } = settings;
  const seenBy = (peer: string | undefined) => (peer === undefined ? {} : { peer });
  if (!proxies) return (request) => ({ origin, ...seenBy(peers.get(request)) });
  const isTrusted = createTrust(proxies);
  const origins = originsOf(settings);
  let isSaid = false;
  return (request) => {
    const hop = outermost(proxies, isTrusted, request);
    const why = () => (hop ? undefined : whyNone(proxies, isTrusted, request));
    // Said once: whoever comes past the proxies can have it said, and the settings may be right.
    const toSay = isSaid ? undefined : why();
    if (toSay !== undefined) {
      isSaid = true;
      tools.platform.print(
        visible(`tenonsaw: the setting proxies counts for nothing at a request: ${toSay}.`),
      );
    }
    const scheme = hop?.scheme ?? new URL(request.url).protocol.slice(0, -1);
    const said = `${scheme}://${hop?.host ?? hostOf(request)}`;
    const found = parseUrl(said)?.origin ?? "null";
    check(tools, "server.origin-unknown", origins.includes(found), () => {
      const because = why();
      const nothing = hop ? "" : `, and nothing that counts in ${headerNames(proxies)}`;
      return {
        received: `${quoted(said)}${nothing}${because === undefined ? "" : `: ${because}`}`,
        expected: origins.join(" or "),
        here: adviceFor(proxies, found, origins, hop, because),
      };
    });
    return { origin: found, ...seenBy(hop ? hop.client && addressOf(hop.client) : peers.get(request)) };
  };
}

function adviceFor(
  proxies: Proxies,
  found: string,
  origins: readonly string[],
  hop: Hop | undefined,
  why: string | undefined,
): string {
  if (why !== undefined)
    return "Correct `proxies`, where what came is from your proxies: its `header`, and `addresses` or `hops`.";
  const withTls = found.replace(/^http:/, "https:");
  if (found !== withTls && origins.includes(withTls)) {
    return hop
      ? "Let the proxy tell the scheme that the browser used: proto=https, or X-Forwarded-Proto: https."
      : `Let the proxy write ${headerNames(proxies)}; where the browser came past it, let it come by one of the origins.`;
  }
  return "Let the proxy pass on the host the browser used, or add this origin to `origin` or `proxies.otherOrigins`.";
}

function headerNames({ header }: Proxies): string {
  return header === "forwarded" ? "Forwarded" : "X-Forwarded-For, -Proto and -Host";
}

/**
 * Walks from this process outwards for as long as the next one is a named proxy. What the last of them said counts;
 * what stands before that was written by somebody else. Where nobody who is named has sent the request, no header of it
 * is read.
 */
function outermost(
  proxies: Proxies,
  isTrusted: (address: string) => boolean,
  request: Request,
): Hop | undefined {
  let address = peers.get(request);
  if (proxies.hops === undefined && (address === undefined || !isTrusted(address))) return undefined;
  const hops = proxies.header === "forwarded" ? readForwarded(request) : readXForwarded(request);
  if (hops.length > limits.forwardedElements)
    fail("server.request-too-large", {
      received: `${hops.length} proxies in ${headerNames(proxies)}`,
      because: "proxies",
    });
  if (proxies.hops !== undefined) return hops.at(-proxies.hops);
  let found: Hop | undefined;
  for (const hop of hops.toReversed()) {
    if (address === undefined || !isTrusted(address)) break;
    found = hop;
    address = hop.client;
  }
  return found;
}

/** Why what proxies have written counts for nothing; undefined where nothing is written. */
function whyNone(
  { header, hops }: Proxies,
  isTrusted: (address: string) => boolean,
  request: Request,
): string | undefined {
  const names = ["Forwarded", "X-Forwarded-For"] as const;
  const [own, other] = header === "forwarded" ? names : names.toReversed();
  if (!request.headers.has(own)) {
    if (!request.headers.has(other)) return undefined;
    return `it has the header ${other}, and \`header\` says ${header}`;
  }
  if (hops !== undefined) return `its ${own} is of fewer proxies than \`hops\`, ${hops}`;
  const peer = peers.get(request);
  if (peer === undefined)
    return "nobody has said whom it comes from, as adapters do: `addresses` have nothing to go by";
  return isTrusted(peer)
    ? `its ${own} cannot be read`
    : `it comes from ${quoted(peer, 50)}, which is none of \`addresses\``;
}

function createTrust({ addresses = [] }: Proxies): (address: string) => boolean {
  const ranges = addresses.map((text) =>
    text.includes("/") ? ipaddr.parseCIDR(text) : singleAddress(ipaddr.process(text)),
  );
  return (text) => {
    const bare = addressOf(text);
    if (!ipaddr.isValid(bare)) return false;
    // A listener for both families sees an IPv4 address as ::ffff:a.b.c.d.
    const address = ipaddr.process(bare);
    return ranges.some(([range, bits]) => range.kind() === address.kind() && address.match(range, bits));
  };
}

/** An address without the port that may stand behind it (RFC 7239 section 6). */
function addressOf(text: string): string {
  return text.replace(/^\[|\](:\d+)?$/g, "").replace(/^(\d+(?:\.\d+){3}):\d+$/, "$1");
}

function singleAddress(address: ipaddr.IPv4 | ipaddr.IPv6): [ipaddr.IPv4 | ipaddr.IPv6, number] {
  return [address, address.kind() === "ipv4" ? 32 : 128];
}

/** @throws server.request-too-large */
function headerOf(request: Request, name: string): string {
  const header = request.headers.get(name) ?? "";
  if (header.length > limits.forwardedHeader)
    fail("server.request-too-large", {
      received: `a ${name} header of ${header.length} characters`,
      because: "proxies",
    });
  return header;
}

/** RFC 7239 section 4: elements separated by commas, pairs by semicolons, values as tokens or quoted. */
function readForwarded(request: Request): readonly Hop[] {
  const header = headerOf(request, "forwarded");
  if (header === "") return [];
  return splitUnquoted(header, ",").map((element) => {
    const pairs = splitUnquoted(element, ";").map((pair) => {
      const at = pair.indexOf("=");
      const value = pair.slice(at + 1).trim();
      const plain = /^"(.*)"$/.exec(value)?.[1]?.replace(/\\(.)/g, "$1") ?? value;
      return [pair.slice(0, at).trim().toLowerCase(), plain] as const;
    });
    const {
      for: client,
      proto: scheme,
      host,
    } = Object.fromEntries(pairs) as Readonly<Record<string, string>>;
    return { client, scheme, host };
  });
}

/**
 * Where the separator stands outside quotes: in one go from left to right. A quote that stays open may be a visitor's, who
 * wants what the proxy wrote behind it to be read as his own: then there are no parts (RFC 9110 section 5.6.4).
 */
function splitUnquoted(text: string, separator: string): readonly string[] {
  const parts: string[] = [];
  let [start, isQuoted] = [0, false];
  for (let at = 0; at < text.length; at += 1) {
    const character = text[at];
    if (isQuoted && character === "\\") at += 1;
    else if (character === '"') isQuoted = !isQuoted;
    else if (!isQuoted && character === separator) {
      parts.push(text.slice(start, at).trim());
      start = at + 1;
    }
  }
  return isQuoted ? [] : [...parts, text.slice(start).trim()];
}

/** The older headers: one address a proxy; scheme and host once, or as lists of the same length. */
function readXForwarded(request: Request): readonly Hop[] {
  const list = (name: string) =>
    headerOf(request, name)
      .split(",")
      .map((part) => part.trim())
      .filter((part) => part !== "");
  const clients = list("x-forwarded-for");
  const [schemes, hosts] = [list("x-forwarded-proto"), list("x-forwarded-host")];
  const pick = (values: readonly string[], fromRight: number) =>
    values.length === 1 ? values[0] : values.at(-1 - fromRight);
  return clients.map((client, index) => {
    const fromRight = clients.length - 1 - index;
    return { client, scheme: pick(schemes, fromRight), host: pick(hosts, fromRight) };
  });
}

/** Host and port as the browser addressed them. */
export function hostOf(request: Request): string {
  return request.headers.get("host") ?? new URL(request.url).host;
}
