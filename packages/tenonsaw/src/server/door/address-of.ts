import type { PopUp } from "../../session/index.js";

/** Method and path: what is in a query may be a secret. */
export function nameOf({ method, url }: Request): string {
  return `${method} ${new URL(url).pathname.slice(0, 200)}`;
}

/** What the parameter `in` says of a sign-in in a window of its own; undefined where it is not in one. */
export function readPopUp(text: string | null): PopUp | undefined {
  return text !== null && /^pop-up(\.[A-Za-z0-9_-]{1,32})?$/.test(text) ? (text as PopUp) : undefined;
}
