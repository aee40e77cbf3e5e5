import QuickLRU from "quick-lru";
import type { Platform } from "../platform/index.js";

/** Which APIs refuse tokens that are fresh: a new one for every call would not help, and costs the provider something. */
export interface Stubborn {
  /** Whether a new token has just been refused like the one before it. */
  refuses(name: string): boolean;
  /** @param isRefused whether the call with the renewed token was refused as well */
  note(name: string, isRefused: boolean): void;
}

const [firstSeconds, longestSeconds] = [10, 600];
const mostRemembered = 1000;

/** In this process's memory. A new token is tried again after ten seconds, then twenty, and so on to ten minutes. */
export function createStubborn({ monotonic }: Pick<Platform, "monotonic">): Stubborn {
  const known = new QuickLRU<string, { readonly seconds: number; readonly until: number }>({
    maxSize: mostRemembered,
  });
  return {
    refuses: (name) => (known.get(name)?.until ?? -Infinity) > monotonic(),
    note(name, isRefused) {
      if (!isRefused) {
        known.delete(name);
        return;
      }
      const seconds = Math.min(longestSeconds, 2 * (known.get(name)?.seconds ?? firstSeconds / 2));
      known.set(name, { seconds, until: monotonic() + seconds });
    },
  };
}
