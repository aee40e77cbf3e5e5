import ipaddr from "ipaddr.js";
import QuickLRU from "quick-lru";
import type { Platform } from "../../platform/index.js";

/** So many requests a minute that cost the store or a provider something, and as many at once. */
export const requestsAMinute = 600;
const mostPeers = 10_000;

/**
 * The usual limit of rates: by peer, in this process's memory. An address of a network that is nobody's in particular
 * (loopback, private) is most likely a proxy that the settings do not name, behind which everybody stands: it has none.
 */
export function createPeerLimit({
  monotonic,
}: Pick<Platform, "monotonic">): (peer?: string) => number | undefined {
  const buckets = new QuickLRU<string, { readonly left: number; readonly at: number }>({
    maxSize: mostPeers,
  });
  return (peer) => {
    const name = peer === undefined ? undefined : networkOf(peer);
    if (name === undefined) return undefined;
    const now = monotonic();
    const before = buckets.get(name) ?? { left: requestsAMinute, at: now };
    const left = Math.min(requestsAMinute, before.left + ((now - before.at) * requestsAMinute) / 60);
    buckets.set(name, { left: left < 1 ? left : left - 1, at: now });
    return left < 1 ? ((1 - left) * 60) / requestsAMinute : undefined;
  };
}

const nobodysRanges: readonly string[] = [
  "loopback",
  "private",
  "linkLocal",
  "uniqueLocal",
  "carrierGradeNat",
  "unspecified",
];

/** Whoever has one address of version 6 has all of its /64. */
function networkOf(peer: string): string | undefined {
  if (!ipaddr.isValid(peer)) return undefined;
  const address = ipaddr.process(peer);
  if (nobodysRanges.includes(address.range())) return undefined;
  return address.kind() === "ipv4" ? address.toString() : address.toByteArray().slice(0, 8).join(".");
}
