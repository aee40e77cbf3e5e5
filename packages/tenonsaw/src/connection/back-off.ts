import QuickLRU from "quick-lru";
import type { Platform } from "../platform/index.js";
import type { Problem } from "../problem/index.js";

/** When what failed is worth another try: later each time, and not all at the same moment. */
export interface BackOff {
  /** Why there is a pause, and for how many seconds yet; undefined for at once. */
  pause(name: string): Pause | undefined;
  /** The same; where the pause is over, whoever asks first tries it, and for all others it goes on for as long as that may take. */
  pauseButOne(name: string, seconds: number): Pause | undefined;
  /** @returns for how many seconds there has been nothing but this code */
  note(name: string, problem: Pick<Problem, "code" | "retryAfterSeconds">): number;
  clear(name: string): void;
}

export interface Pause {
  readonly secondsLeft: number;
  readonly code: Problem["code"];
}

interface Failures {
  readonly count: number;
  readonly until: number;
  readonly code: Problem["code"];
  /** Of those with this code, the first. */
  readonly since: number;
}

const [firstSeconds, longestSeconds] = [1, 60];
const mostRemembered = 1000;

/** In this process's memory, by a clock that does not step: each process finds out for itself that a provider is away. */
export function createBackOff({
  randomBytes,
  monotonic,
}: Pick<Platform, "randomBytes" | "monotonic">): BackOff {
  const failures = new QuickLRU<string, Failures>({ maxSize: mostRemembered });
  const pause = (name: string): Pause | undefined => {
    const { until = -Infinity, code } = failures.get(name) ?? {};
    const secondsLeft = until - monotonic();
    return code !== undefined && secondsLeft > 0 ? { secondsLeft, code } : undefined;
  };
  return {
    pause,
    pauseButOne(name, seconds) {
      const left = pause(name);
      const before = failures.get(name);
      if (!left && before) failures.set(name, { ...before, until: monotonic() + seconds });
      return left;
    },
    note(name, { code, retryAfterSeconds }) {
      const now = monotonic();
      const before = failures.get(name);
      const count = (before?.count ?? 0) + 1;
      const since = before?.code === code ? before.since : now;
      // Between half of it and all of it, so that a provider that comes back is not flattened.
      const share = 0.5 + (randomBytes(1)[0] ?? 0) / 510;
      const ownSeconds = share * Math.min(longestSeconds, firstSeconds * 2 ** (count - 1));
      failures.set(name, { count, until: now + (retryAfterSeconds ?? ownSeconds), code, since });
      return now - since;
    },
    clear: (name) => void failures.delete(name),
  };
}
