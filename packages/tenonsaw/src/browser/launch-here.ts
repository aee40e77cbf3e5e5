/** Where this frame keeps the key of its launch, if its browser keeps no cookie there: as the server's pages write it. */
const item = () => `tenonsaw-launch ${window.name}`;

/**
 * Which launch this page is of: its name stands in the address, and the key to it in a cookie, or with this frame. Undefined for a
 * page that no host has opened. For `createPageSession({ launch: launchHere() })`.
 */
export function launchHere(): string | undefined {
  if (typeof location === "undefined") return undefined;
  const handle = new URLSearchParams(location.search).get("launched") ?? "";
  if (!handle.startsWith("*")) return handle === "" ? undefined : handle;
  try {
    return `${handle}.${sessionStorage.getItem(item()) ?? ""}`;
  } catch {
    return handle;
  }
}

/**
 * Shows a page in the host's colours and sizes: each member of its style as a CSS variable, such as `--launch-color-background`
 * for `color_background`. The server has looked at every value.
 */
export function applyLaunchStyle(
  style: Readonly<Record<string, string>>,
  element: HTMLElement = document.documentElement,
): void {
  for (const [name, value] of Object.entries(style))
    element.style.setProperty(`--launch-${name.replaceAll("_", "-")}`, value);
}
