import { hashId, randomId } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { launchHeader } from "../door/pass-on.js";

/** A launch is a session of its own: two of them in one browser are about two patients, and neither hears of the other. */
export interface LaunchKey {
  /** Says which launch. It stands in addresses and opens nothing by itself. */
  readonly handle: string;
  /** The frame's or browser's secret; absent where the cookie has it. */
  readonly key?: string;
}

const form = /^(\*?[A-Za-z0-9_-]{22})(?:\.([A-Za-z0-9_-]{43}))?$/;

/** Which launch a request names; undefined where it names none, `unreadable` where what it says is none of ours. */
export function launchNamed(request: Request): LaunchKey | "unreadable" | undefined {
  const header = request.headers.get(launchHeader);
  // A key is for a header only: addresses are seen by others.
  const text =
    header ?? (request.url.includes("launched=") ? new URL(request.url).searchParams.get("launched") : null);
  if (text === null) return undefined;
  const [, handle, key] = form.exec(text) ?? [];
  if (handle === undefined || (key !== undefined && header === null)) return "unreadable";
  return { handle, ...(key !== undefined && { key }) };
}

/** What a launch's session is found by: neither half is worth anything alone. */
export function launchValue(key: string, handle: string): string {
  return `${key}.${handle}`;
}

/** @param isKeptByFrame then it says so, and its page brings the key that its frame has */
export function newHandle({ tools }: Context, isKeptByFrame: boolean): string {
  return `${isKeptByFrame ? "*" : ""}${randomId(tools.platform, 16)}`;
}

/** Whether a page of another site may be around this one, as far as the browser says (Fetch Metadata Request Headers 2.1). */
export function isFramed(request: Request): boolean {
  return ["iframe", "frame"].includes(request.headers.get("sec-fetch-dest") ?? "");
}

/** What a launch value is noted by. */
export async function launchMarkOf(
  { tools }: Pick<Context, "tools">,
  base: string,
  launch: string,
): Promise<string> {
  return hashId(tools.platform, JSON.stringify(["launch", base, launch]));
}

/**
 * Each launch value opens one launch. A frame that keeps no cookie may turn out to keep nothing at all, and its person then goes on in
 * a window of its own with the same value: so a value can be begun with once in a frame and once elsewhere, and is used up by whichever
 * is finished first.
 *
 * @returns false where somebody has come with it before
 */
export async function useLaunchValue(
  { tools, store }: Context,
  mark: string,
  how: "begun in a frame" | "used" = "used",
): Promise<boolean> {
  const now = tools.platform.now();
  const name = how === "used" ? `launch/${mark}` : `launch-frame/${mark}`;
  if (how !== "used" && (await store.isMarked(`launch/${mark}`, now))) return false;
  return store.useMark(name, Math.floor(now) + 86_400, now);
}
