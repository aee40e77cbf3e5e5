/** What the sign-in's window tells this page when it is done. */
interface Ending {
  readonly from: "tenonsaw";
  readonly kind: "granted" | "declined" | "failed";
  readonly returnTo: string;
}

export const signInWindowName = "ferrywell-sign-in";

/** Signs in in a window of its own, and goes on here when it is done. */
export function signInInWindow(href: string): void {
  const opened = open(href);
  // A browser that lets no window open goes there itself.
  if (opened) goOnWhenDone(opened);
  else location.assign(href.replace("in=pop-up&", ""));
}

/** The same for a form that is about to be sent into that window. */
export function tellWhenDone(form: HTMLFormElement): void {
  const opened = open("");
  if (opened) {
    goOnWhenDone(opened);
    return;
  }
  form.target = "_self";
  form.querySelector("[name=in]")?.remove();
}

function open(href: string): Window | null {
  return window.open(href, signInWindowName, "popup,width=520,height=680");
}

function goOnWhenDone(opened: Window): void {
  window.addEventListener("message", ({ origin, source, data }: MessageEvent<unknown>) => {
    if (origin !== location.origin || source !== opened || !isEnding(data)) return;
    if (data.kind === "granted") location.assign(data.returnTo);
  });
}

function isEnding(data: unknown): data is Ending {
  return typeof data === "object" && data !== null && "from" in data && data.from === "tenonsaw";
}
