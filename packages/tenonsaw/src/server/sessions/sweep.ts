import type { Tools } from "../../trace/index.js";
import type { ConnectionRecord, Store } from "../../session/index.js";

const shortestPauseSeconds = 60;
/** So many of each kind at once: nobody who comes meanwhile waits for long. */
const most = 500;

/**
 * Removes what is over from the store, once a minute at the most, however often it is called; while there is more than
 * a batch of it, a batch each time.
 *
 * @param onHeld is given what the sessions held that are over
 */
export function createSweep(
  { platform }: Tools,
  store: Store,
  onHeld: (held: readonly ConnectionRecord[]) => void,
): () => Promise<void> {
  let sweptAt = -Infinity;
  return async () => {
    if (platform.monotonic() - sweptAt < shortestPauseSeconds) return;
    sweptAt = platform.monotonic();
    const { count, held } = await store.sweep(platform.now(), most);
    onHeld(held);
    if (count >= most) sweptAt = -Infinity;
  };
}
