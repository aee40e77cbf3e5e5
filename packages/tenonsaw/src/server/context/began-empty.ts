import { attemptLifetimeSeconds } from "../../attempt/index.js";
import type { Context } from "./context.js";

/** Whether this process began a moment ago with a store that knows nothing of before. */
export function beganEmpty({
  store,
  tools,
  openedAt,
}: Pick<Context, "store" | "tools" | "openedAt">): boolean {
  return store.isForgetful === true && tools.platform.monotonic() - openedAt < attemptLifetimeSeconds;
}
