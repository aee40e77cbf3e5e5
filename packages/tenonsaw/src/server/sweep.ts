import type { Store } from "../session/index.js";
import type { Tools } from "../trace/index.js";

/** Attempts stay this long after they expired, so that a late callback can be told why it is refused. */
const attemptMemorySeconds = 86_400;
const shortestPauseSeconds = 60;
/** So many of each kind at once: nobody who comes meanwhile waits for long. */
const most = 500;

/**
 * Removes what is over from the store, once a minute at the most, however often it is called; while there is more than
 * a batch of it, a batch each time.
 */
export function createSweep(tools: Tools, store: Store): () => Promise<void> {
  let sweptAt = -Infinity;
  return async () => {
    const now = tools.platform.now();
    if (now - sweptAt < shortestPauseSeconds) return;
    sweptAt = now;
    const swept = await store.sweep(now, now - attemptMemorySeconds, most);
    if (swept >= most) sweptAt = -Infinity;
  };
}
