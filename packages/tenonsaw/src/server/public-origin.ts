import ipaddr from "ipaddr.js";
import { quoted } from "../problem/index.js";
import { check, type Tools } from "../trace/index.js";
import { hostOf } from "./begin-route.js";
import type { ResolvedSignInSettings } from "./settings.js";

type Proxies = NonNullable<ResolvedSignInSettings["proxies"]>;

/** What one proxy says of the request it received. */
interface Hop {
  readonly client?: string | undefined;
  readonly scheme?: string | undefined;
  readonly host?: string | undefined;
}

const peers = new WeakMap<Request, string>();

/**
 * Says from which address a request reached this process; adapters call it, as nodeListener does. Only needed where
 * proxies are named by address.
 */
export function notePeer(request: Request, address: string | undefined): void {
  if (address !== undefined) peers.set(request, address);
}

/** All the origins at which browsers may see this app, the main one first. */
export function originsOf({
  origin,
  proxies,
}: Pick<ResolvedSignInSettings, "origin" | "proxies">): readonly string[] {
  return [origin, ...(proxies?.otherOrigins ?? [])];
}

/**
 * Where the browser that sent a request sees this app. Without `proxies` that is `origin`, whatever the request says.
 * With them it is what the outermost named proxy says (RFC 7239 sections 4 and 5, or the X-Forwarded-* headers), and
 * has to be one of the origins in the settings: a header alone makes nothing true.
 *
 * @throws server.origin-unknown
 */
export function createOriginReader(
  tools: Tools,
  settings: Pick<ResolvedSignInSettings, "origin" | "proxies">,
): (request: Request) => string {
  const { origin, proxies } = settings;
  if (!proxies) return () => origin;
  const isTrusted = createTrust(proxies);
  const origins = originsOf(settings);
  return (request) => {
    const hop = outermost(proxies, isTrusted, request);
    const scheme = hop?.scheme ?? new URL(request.url).protocol.slice(0, -1);
    const said = `${scheme}://${hop?.host ?? hostOf(request)}`;
    const found = URL.canParse(said) ? new URL(said).origin : "null";
    check(tools, "server.origin-unknown", origins.includes(found), () => ({
      received: `${quoted(said)}${hop ? "" : `, and nothing that counts in ${headerNames(proxies)}`}`,
      expected: origins.join(" or "),
      here: adviceFor(found, origins, hop),
    }));
    return found;
  };
}

function adviceFor(found: string, origins: readonly string[], hop: Hop | undefined): string {
  const withTls = found.replace(/^http:/, "https:");
  if (found !== withTls && origins.includes(withTls)) {
    return hop
      ? "Let the proxy tell the scheme that the browser used: proto=https, or X-Forwarded-Proto: https."
      : "No proxy that is named in `proxies` stands before this request: compare addresses, or hops, and header.";
  }
  return "Let the proxy pass on the host the browser used, or add this origin to `origin` or `proxies.otherOrigins`.";
}

function headerNames({ header }: Proxies): string {
  return header === "forwarded" ? "Forwarded" : "X-Forwarded-For, -Proto and -Host";
}

/**
 * Walks from this process outwards for as long as the next one is a named proxy. What the last of them said counts;
 * what stands before that was written by somebody else.
 */
function outermost(
  proxies: Proxies,
  isTrusted: (address: string) => boolean,
  request: Request,
): Hop | undefined {
  const hops = proxies.header === "forwarded" ? readForwarded(request) : readXForwarded(request);
  if (proxies.hops !== undefined) return hops.at(-proxies.hops);
  let found: Hop | undefined;
  let address = peers.get(request);
  for (const hop of hops.toReversed()) {
    if (address === undefined || !isTrusted(address)) break;
    found = hop;
    address = hop.client;
  }
  return found;
}

function createTrust({ addresses = [] }: Proxies): (address: string) => boolean {
  const ranges = addresses.map((text) =>
    text.includes("/") ? ipaddr.parseCIDR(text) : singleAddress(ipaddr.process(text)),
  );
  return (text) => {
    const bare = text.replace(/^\[|\](:\d+)?$/g, "").replace(/^(\d+(?:\.\d+){3}):\d+$/, "$1");
    if (!ipaddr.isValid(bare)) return false;
    // A listener for both families sees an IPv4 address as ::ffff:a.b.c.d.
    const address = ipaddr.process(bare);
    return ranges.some(([range, bits]) => range.kind() === address.kind() && address.match(range, bits));
  };
}

function singleAddress(address: ipaddr.IPv4 | ipaddr.IPv6): [ipaddr.IPv4 | ipaddr.IPv6, number] {
  return [address, address.kind() === "ipv4" ? 32 : 128];
}

/** RFC 7239 section 4: elements separated by commas, pairs by semicolons, values as tokens or quoted. */
function readForwarded(request: Request): readonly Hop[] {
  const header = request.headers.get("forwarded");
  if (header === null) return [];
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

function splitUnquoted(text: string, separator: string): readonly string[] {
  return text.split(new RegExp(`${separator}(?=(?:[^"]*"[^"]*")*[^"]*$)`)).map((part) => part.trim());
}

/** The older headers: one address a proxy; scheme and host once, or as lists of the same length. */
function readXForwarded(request: Request): readonly Hop[] {
  const list = (name: string) =>
    (request.headers.get(name) ?? "")
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
