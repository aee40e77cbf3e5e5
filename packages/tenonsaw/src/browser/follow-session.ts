/** What a page may know of its browser's session. */
export interface SessionNow {
  readonly signedIn: boolean;
  /** Seconds since the epoch. */
  readonly expiresAt?: number;
}

/** Where the session is asked for. */
export interface FollowOptions {
  /** The path under which the sign-in routes live, as in the server's settings. Default: `/sign-in`. */
  readonly basePath?: string;
}

/** setTimeout counts no further. */
const longestMilliseconds = 2 ** 31 - 1;

/**
 * Tells a page of a server app when its browser's session is another than the one it began with: ended in this tab or
 * in another one, at its end, or somebody else's. It looks when the page is shown again, also by the back button out of
 * the browser's memory, when another tab has seen a change, and when the session should be over.
 *
 * @param onChange such as `() => location.reload()`
 * @returns ends the watch
 */
export function followSession(
  onChange: (now: SessionNow) => void,
  { basePath = "/sign-in" }: FollowOptions = {},
): () => void {
  const channel = new BroadcastChannel(`tenonsaw ${basePath}`);
  let known: string | undefined;
  let timer: ReturnType<typeof setTimeout> | undefined;
  let isOver = false;

  const look = async () => {
    const now = await askSession(basePath);
    // Whoever cannot be reached has not said that anything changed.
    if (!now || isOver) return;
    const { tag = "nobody", ...told } = now;
    const before = known;
    known = tag;
    clearTimeout(timer);
    if (now.expiresAt !== undefined) {
      const milliseconds = now.expiresAt * 1000 - Date.now() + 1000;
      timer = setTimeout(() => void look(), Math.min(Math.max(milliseconds, 1000), longestMilliseconds));
    }
    if (before === tag) return;
    channel.postMessage(tag);
    if (before !== undefined) onChange(told);
  };
  const onShow = ({ persisted }: PageTransitionEvent) => {
    if (persisted) void look();
  };
  const onVisible = () => {
    if (document.visibilityState === "visible") void look();
  };
  channel.addEventListener("message", ({ data }) => {
    if (data !== known) void look();
  });
  window.addEventListener("pageshow", onShow);
  document.addEventListener("visibilitychange", onVisible);
  void look();
  return () => {
    isOver = true;
    clearTimeout(timer);
    channel.close();
    window.removeEventListener("pageshow", onShow);
    document.removeEventListener("visibilitychange", onVisible);
  };
}

async function askSession(basePath: string): Promise<(SessionNow & { readonly tag?: string }) | undefined> {
  try {
    const answer = await fetch(`${basePath}/session`, { cache: "no-store" });
    return answer.ok ? ((await answer.json()) as SessionNow & { readonly tag?: string }) : undefined;
  } catch {
    return undefined;
  }
}
