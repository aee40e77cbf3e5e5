/** What the sign-in's window tells this page when it is done. */
interface Ending {
  readonly from: "tenonsaw";
  readonly kind: "granted" | "declined" | "failed";
  readonly returnTo: string;
}

/** Signs in in a window of its own, and goes on here when it is done. */
export function signInInWindow(href: string): void {
  const opened = window.open(href, "ferrywell-sign-in", "popup,width=520,height=680");
  // A browser that lets no window open goes there itself.
  if (!opened) {
    location.assign(href.replace("in=pop-up&", ""));
    return;
  }
  window.addEventListener("message", ({ origin, source, data }: MessageEvent<unknown>) => {
    if (origin !== location.origin || source !== opened || !isEnding(data)) return;
    if (data.kind === "granted") location.assign(data.returnTo);
  });
}

function isEnding(data: unknown): data is Ending {
  return typeof data === "object" && data !== null && "from" in data && data.from === "tenonsaw";
}
