import { visible } from "../problem/index.js";
import { isUrl, parseUrl, type Platform } from "../platform/index.js";
import { fingerprint, isSecretName } from "./secret-names.js";

/** Each entry as text, secrets by fingerprint at whatever depth, long values cut. */
export async function redactEntries(
  platform: Platform,
  entries: Iterable<readonly [string, unknown]>,
): Promise<Readonly<Record<string, string>>> {
  const redacted: [string, string][] = [];
  for (const [name, value] of entries) {
    const shown = await redactValue(platform, name, value, 0);
    redacted.push([visible(name), shorten(typeof shown === "string" ? shown : JSON.stringify(shown))]);
  }
  return Object.fromEntries(redacted);
}

/** Deeper than that nobody reads a trace. */
const deepest = 8;
/** Members of a private or symmetric key (RFC 7518 sections 6.2.2, 6.3.2 and 6.4). */
const keyMembers: readonly string[] = ["d", "p", "q", "dp", "dq", "qi", "oth", "k"];

async function redactValue(
  platform: Platform,
  name: string,
  value: unknown,
  depth: number,
): Promise<unknown> {
  if (isSecretName(name)) return fingerprint(platform, textOf(value));
  if (typeof value === "string") return (await redactForm(platform, value)) ?? value;
  if (typeof value !== "object" || value === null) return value ?? "absent";
  if (depth >= deepest) return "…";
  const isKey = "kty" in value;
  const members = Object.entries(value).map(async ([member, each]) => [
    member,
    isKey && keyMembers.includes(member)
      ? await fingerprint(platform, textOf(each))
      : // The members of a list go by the list's name.
        await redactValue(platform, Array.isArray(value) ? name : member, each, depth + 1),
  ]);
  const shown = Object.fromEntries((await Promise.all(members)) as [string, unknown][]);
  return Array.isArray(value) ? Object.values(shown) : shown;
}

function textOf(value: unknown): string {
  if (typeof value === "string") return value;
  try {
    const text: unknown = JSON.stringify(value);
    return typeof text === "string" ? text : typeof value;
  } catch {
    return "";
  }
}

/** A text that is an address or a form with a secret in it. */
async function redactForm(platform: Platform, text: string): Promise<string | undefined> {
  if (!/[=]/.test(text) || text.length > longestForm) return undefined;
  if (/^[a-z][a-z0-9+.-]*:\/\//i.test(text) || /^[/?#]/.test(text)) return redactUrl(platform, text);
  const form = new URLSearchParams(text);
  return [...form.keys()].some(isSecretName) ? redactParameters(platform, form) : undefined;
}

const longestForm = 16 * 1024;

/** The URL with the values of secret parameters, in query and fragment, replaced by fingerprints, and no password. */
export async function redactUrl(platform: Platform, url: string): Promise<string> {
  const isRelative = !isUrl(url);
  const redacted = parseUrl(url, nowhere);
  if (!redacted) return shorten(visible(url));
  if (redacted.password !== "" || redacted.username !== "")
    [redacted.username, redacted.password] = ["hidden", ""];
  redacted.search = await redactParameters(platform, redacted.searchParams);
  const fragment = redacted.hash.slice(1);
  if (fragment.includes("=")) redacted.hash = await redactParameters(platform, new URLSearchParams(fragment));
  const shown = redacted.href.replaceAll("=%23", "=#");
  return isRelative ? shown.replace(nowhere, "") : shown;
}

const nowhere = "http://nowhere.invalid";

async function redactParameters(platform: Platform, parameters: URLSearchParams): Promise<string> {
  const redacted = new URLSearchParams();
  for (const [name, value] of parameters)
    redacted.append(name, isSecretName(name) ? await fingerprint(platform, value) : value);
  return redacted.toString().replaceAll("=%23", "=#");
}

function shorten(text: string): string {
  return text.length > 200 ? `${text.slice(0, 200)}…` : text;
}
