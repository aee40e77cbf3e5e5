import type { Platform } from "../platform/index.js";
import type { CauseOf } from "../problem/index.js";
import type { NamedProxy } from "./unreachable.js";

/** What tells why is loaded where something fails; where nothing can be loaded any more, it is not told. */
const load = () => import("./unreachable.js").catch(() => undefined);

/** Which cause of `platform.unreachable` a failed connection comes from. */
export async function unreachableBecause(
  error: unknown,
  platform: Platform,
  url: string,
): Promise<CauseOf<"platform.unreachable"> | undefined> {
  return (await load())?.unreachableBecause(error, platform, new URL(url));
}

/** Which proxy the environment names for an address, and whether what this sends goes by it. */
export async function proxyFor(platform: Platform, url: string): Promise<NamedProxy | undefined> {
  return (await load())?.proxyFor(platform, new URL(url));
}
