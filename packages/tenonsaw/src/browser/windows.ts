import { isObject } from "./follow-session.js";

/** How a trip to a provider ended. */
export interface Ending {
  /** `closed`: the window was closed, or the browser came back to this page, before it was over. */
  readonly kind: "granted" | "declined" | "failed" | "closed";
  /** The problem's code. What else is known of it the window itself shows. */
  readonly problem?: string;
}

/** A window of its own, and how what happens in it ends. */
export interface OpenedWindow {
  /** Goes on there. */
  goTo(url: string): void;
  close(): void;
  readonly ending: Promise<Ending>;
}

/**
 * Opens a window; undefined where the browser does not let it. It has to happen in the person's own click, before anything
 * is waited for.
 *
 * @param channelName where the last page of it tells how it ended
 */
export function openWindow(id: string, channelName: string): OpenedWindow | undefined {
  const opened = window.open("about:blank", `tenonsaw-${id}`, "popup,width=520,height=680");
  if (!opened) return undefined;
  const ending = new Promise<Ending>((resolve) => {
    const channel = new BroadcastChannel(channelName);
    const end = (how: Ending) => {
      clearInterval(watching);
      channel.close();
      resolve(how);
    };
    channel.addEventListener("message", ({ data }: MessageEvent<unknown>) => {
      if (!isObject(data) || data["id"] !== id || !isObject(data["end"])) return;
      channel.postMessage({ heard: id });
      const { kind, problem } = data["end"];
      if (kind === "granted" || kind === "declined" || kind === "failed")
        end({ kind, ...(typeof problem === "string" && { problem }) });
    });
    // What it said last is on its way when it closes.
    let closedFor = 0;
    const watching = setInterval(() => {
      closedFor = opened.closed ? closedFor + 1 : 0;
      if (closedFor > 3) end({ kind: "closed" });
    }, 250);
  });
  return { goTo: (url) => opened.location.replace(url), close: () => opened.close(), ending };
}

/** Goes there in this window; should the browser come back to this very page, that is the end of it. */
export function leaveFor(url: string): Promise<Ending> {
  location.assign(url);
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
