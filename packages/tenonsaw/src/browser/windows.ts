import { ProblemError, quoted, type Problem } from "../problem/index.js";
import { isObject } from "./follow-session.js";
import { oddName } from "./names.js";

/** Where a trip to a provider happens. */
export interface Where {
  /**
   * In this window, which leaves the page and comes back to it; or in one of its own, if the browser lets it, which it does in
   * the person's click only. Default: in this window.
   */
  readonly in?: "this window" | "pop-up";
  /** A path of this app to come back to. Default: this page. */
  readonly returnTo?: string;
}

/** How a trip to a provider ended. */
export interface Ending {
  /** `closed`: the window was closed, or the browser came back to this page, before it was over. */
  readonly kind: "granted" | "declined" | "failed" | "closed";
  /** What went wrong: its code at least. */
  readonly problem?: Pick<Problem, "code"> & Partial<Problem>;
}

/** A window of its own, and how what happens in it ends. */
interface OpenedWindow {
  /** Goes on there. */
  goTo(url: string): void;
  close(): void;
  readonly ending: Promise<Ending>;
}

/** Reads what the end of a trip says; undefined for what says nothing. */
export type Hear = (data: Readonly<Record<string, unknown>>) => Ending | Promise<Ending> | undefined;

/** Where it can happen. */
export const places: readonly unknown[] = ["this window", "pop-up"] satisfies readonly Where["in"][];

/** Waits for the end of the trip that is known by `id`, and says that it was heard. */
function listenFor(id: string, channelName: string, hear: Hear, end: (ending: Ending) => void): () => void {
  const channel = new BroadcastChannel(channelName);
  channel.addEventListener("message", ({ data }: MessageEvent<unknown>) => {
    if (!isObject(data) || data["id"] !== id) return;
    const ending = hear(data);
    if (!ending) return;
    channel.postMessage({ heard: id });
    void Promise.resolve(ending).then(end);
  });
  return () => channel.close();
}

/**
 * Opens a window; undefined where the browser does not let it. It has to happen in the person's own click, before anything
 * is waited for.
 *
 * @param channelName where the last page of it tells how it ended
 */
function openWindow(id: string, channelName: string, hear: Hear): OpenedWindow | undefined {
  const opened = window.open("about:blank", `tenonsaw-${id}`, "popup,width=520,height=680");
  if (!opened) return undefined;
  // Whatever is shown there, this page is not for it to lead elsewhere.
  opened.opener = null;
  const ending = new Promise<Ending>((resolve) => {
    // What it said last is on its way, and worked on, when it closes.
    let isHeard = false;
    let closedFor = 0;
    const end = (how: Ending) => {
      clearInterval(watching);
      stop();
      resolve(how);
    };
    const stop = listenFor(
      id,
      channelName,
      (data) => {
        const heard = hear(data);
        isHeard ||= heard !== undefined;
        return heard;
      },
      end,
    );
    const watching = setInterval(() => {
      closedFor = opened.closed && !isHeard ? closedFor + 1 : 0;
      if (closedFor > 3) end({ kind: "closed" });
    }, 250);
  });
  return { goTo: (url) => opened.location.replace(url), close: () => opened.close(), ending };
}

/**
 * Makes a trip in a window of its own where that is asked for and the browser lets it, otherwise in this one.
 *
 * @param begin where the trip leads to; is told the name that the window's last page is to tell by, if there is one
 * @throws page.in-foreign-frame, and what `begin` throws
 */
export async function travel(
  provider: unknown,
  { in: where, ...more }: { readonly in?: unknown },
  channelName: string,
  hear: Hear,
  begin: (popUp: `pop-up.${string}` | undefined) => string | Promise<string>,
): Promise<Ending> {
  // A listener is handed an event: that is no name, and would be one in an address.
  const isName = provider === undefined || typeof provider === "string";
  if (!isName || (where !== undefined && !places.includes(where)))
    throw new ProblemError("page.trip-unclear", {
      received: isName ? `in: ${quoted(where)}` : `a provider's name that is ${typeof provider}`,
    });
  const odd = oddName(more, ["returnTo"]);
  if (odd !== undefined)
    throw new ProblemError("page.trip-unclear", {
      received: odd,
      expected: "in, returnTo, scope, and for a sign-in maxAge, acrValues and loginHint",
      because: "name",
    });
  if (isInForeignFrame())
    throw new ProblemError("page.in-foreign-frame", { received: "a page in a frame of another site" });
  const id = newId();
  const opened = where === "pop-up" ? openWindow(id, channelName, hear) : undefined;
  if (where === "pop-up" && !opened)
    console.info("The browser lets no window open here: going there in this one. (Call it in a click.)");
  try {
    const url = await begin(opened && `pop-up.${id}`);
    if (!opened) return await leaveFor(url);
    opened.goTo(url);
  } catch (error) {
    opened?.close();
    throw error;
  }
  return opened.ending;
}

/** Nobody guesses it. (randomUUID is there in secure contexts only.) */
export function newId(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))]
    .map((byte) => byte.toString(16).padStart(2, "0"))
    .join("");
}

/** Makes a trip in a frame that nobody sees; undefined where nothing is heard of it in time. */
export function hearFrame(
  url: string,
  id: string,
  channelName: string,
  hear: Hear,
  seconds: number,
): Promise<Ending | undefined> {
  const frame = document.createElement("iframe");
  frame.hidden = true;
  return new Promise((resolve) => {
    const end = (how?: Ending) => {
      clearTimeout(timer);
      stop();
      frame.remove();
      resolve(how);
    };
    const stop = listenFor(id, channelName, hear, end);
    const timer = setTimeout(() => end(), seconds * 1000);
    frame.src = url;
    document.body.append(frame);
  });
}

/** Whether this page is in a frame of another site: there a browser keeps its cookies and its storage from it. */
export function isInForeignFrame(): boolean {
  if (window.top === window) return false;
  try {
    return window.top?.location.origin !== location.origin;
  } catch {
    return true;
  }
}

/** Goes there in this window; should the browser come back to this very page, that is the end of it. */
export function leaveFor(url: string, isSilent = false): Promise<Ending> {
  // The back button is not to lead to a question that nobody saw.
  if (isSilent) location.replace(url);
  else location.assign(url);
  return new Promise((resolve) => {
    window.addEventListener("pageshow", () => resolve({ kind: "closed" }), { once: true });
  });
}

/** Where the person goes on afterwards: this page, or as much of its address as can be kept on the way. */
export function hereToReturn(longest: number): string {
  const { pathname, search, hash } = location;
  const fitting = [pathname + search + hash, pathname + search, pathname].find(
    (path) => path.length <= longest,
  );
  return fitting ?? "/";
}
