import type { Platform } from "../platform/index.js";

/** When refreshes that failed are worth another try: later each time, and not all at the same moment. */
export interface BackOff {
  /** Seconds until the next try; 0 for at once. */
  secondsLeft(name: string, now: number): number;
  /** @param retryAfterSeconds what the provider itself has said */
  note(name: string, now: number, retryAfterSeconds?: number): void;
  clear(name: string): void;
}

const [firstSeconds, longestSeconds] = [1, 60];
const mostRemembered = 1000;

/** In this process's memory: each process finds out for itself that a provider is away. */
export function createBackOff({ randomBytes }: Pick<Platform, "randomBytes">): BackOff {
  const failures = new Map<string, { readonly count: number; readonly until: number }>();
  return {
    secondsLeft: (name, now) => Math.max(0, (failures.get(name)?.until ?? now) - now),
    note(name, now, retryAfterSeconds) {
      const count = (failures.get(name)?.count ?? 0) + 1;
      // Between half of it and all of it, so that a provider that comes back is not flattened.
      const share = 0.5 + (randomBytes(1)[0] ?? 0) / 510;
      const ownSeconds = share * Math.min(longestSeconds, firstSeconds * 2 ** (count - 1));
      // Connections that nobody uses any more are not remembered for ever.
      if (failures.size >= mostRemembered)
        for (const [other, { until }] of failures) if (until < now) failures.delete(other);
      failures.set(name, { count, until: now + (retryAfterSeconds ?? ownSeconds) });
    },
    clear: (name) => void failures.delete(name),
  };
}
