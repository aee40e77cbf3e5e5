import { isProblem } from "../problem/index.js";
import type { ConnectionRecord } from "../session/index.js";
import { note } from "../trace/index.js";
import { findHeld, holderOf, tell, type Connecting, type Renewal } from "./connecting.js";
import type { HeldLease } from "./hold-lease.js";

/**
 * Writes what came of a refresh: durable before anybody sees the new access token. The provider has spent the token it is
 * based on, so it is not given up lightly: a store that is away is asked again until the lease ends, and by the next
 * refresh in this process after that; and whatever else was written meanwhile, it is written over, unless it comes from a
 * later refresh.
 *
 * @returns what is stored now; undefined where the connection is gone
 * @throws store.unavailable
 */
export async function writeRenewal(
  connecting: Connecting,
  renewal: Renewal,
  lease: HeldLease,
): Promise<ConnectionRecord | undefined> {
  const { tools, store, unwritten } = connecting;
  const { base } = renewal;
  unwritten.set(base.id, renewal);
  let next = renewed(base, renewal);
  let fence: HeldLease | undefined = lease;
  for (;;) {
    try {
      if (await store.replaceConnection(next, fence)) {
        tellOf(connecting, next);
        break;
      }
      const current = await findHeld(connecting, holderOf(base), base.provider);
      if (current?.id !== base.id) {
        unwritten.delete(base.id);
        note(tools, "connection", "refreshed in vain: the connection ended meanwhile", {
          connection: base.id,
        });
        return undefined;
      }
      const { renewedUnder = 0 } = current;
      if (renewedUnder >= renewal.lease.number) {
        // This very one, whose answer was lost; or one that began later, and holds.
        if (renewedUnder === renewal.lease.number) tellOf(connecting, current);
        else note(tools, "connection", "refreshed once more meanwhile", { connection: base.id });
        next = current;
        break;
      }
      next = renewed(current, renewal);
      fence = undefined;
    } catch (error) {
      if (!isProblem(error, "store.unavailable") || lease.secondsLeft() <= 0) throw error;
      note(tools, "connection", "the store is away, trying once more to keep the new tokens");
      await tools.platform.wait(0.1);
    }
  }
  unwritten.delete(base.id);
  return next;
}

/** A connection with what came of a refresh in place of the tokens it had. */
function renewed(current: ConnectionRecord, { columns, lease }: Renewal): ConnectionRecord {
  const { expiresAt, ...kept } = current;
  const ownExpiry = columns.sealedAccessToken === undefined && expiresAt !== undefined ? { expiresAt } : {};
  const apiTokens = columns.apiTokens && { ...current.apiTokens, ...columns.apiTokens };
  return {
    ...kept,
    ...ownExpiry,
    ...columns,
    ...(apiTokens && { apiTokens }),
    status: "active",
    refreshCount: current.refreshCount + 1,
    version: current.version + 1,
    renewedUnder: lease.number,
  };
}

function tellOf(connecting: Connecting, next: ConnectionRecord): void {
  const detail = { connection: next.id, count: String(next.refreshCount) };
  note(connecting.tools, "connection", "refreshed silently", detail);
  tell(connecting, next, "refreshed");
}
