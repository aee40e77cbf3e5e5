import type { Platform } from "../platform/index.js";
import { loadPart } from "../problem/load-part.js";

// Requests are told of where somebody follows them, and refused redirections: what that takes is loaded then.

/** Each entry as text, secrets by fingerprint at whatever depth, long values cut. */
export async function redactEntries(
  platform: Platform,
  entries: Iterable<readonly [string, unknown]>,
): Promise<Readonly<Record<string, string>>> {
  return (await loadPart(import("./redact.js"))).redactEntries(platform, entries);
}

/** The URL with the values of secret parameters, in query and fragment, replaced by fingerprints, and no password. */
export async function redactUrl(platform: Platform, url: string): Promise<string> {
  return (await loadPart(import("./redact.js"))).redactUrl(platform, url);
}
