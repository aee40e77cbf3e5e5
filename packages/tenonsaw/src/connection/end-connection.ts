import { fail, type ProblemCode } from "../problem/index.js";
import type { ConnectionRecord, Lease } from "../session/index.js";
import { askAbout, tell, type Connecting } from "./connecting.js";

/**
 * Notes that the provider honours a connection no more: from now on the person is asked to sign in with it again.
 *
 * @param code what it ends with
 * @throws that; connection.busy where somebody else has the connection by now, and what they make of it counts;
 *   store.unavailable
 */
export async function endConnection(
  connecting: Connecting,
  connection: ConnectionRecord,
  lease: Lease,
  received: string,
  code: ProblemCode = "connection.ended",
): Promise<never> {
  const ended = { ...connection, status: "ended", version: connection.version + 1 } as const;
  if (await connecting.store.replaceConnection(ended, lease)) {
    tell(connecting, connection, "needs consent");
    fail(code, { received, ask: askAbout(connection) });
  }
  return fail("connection.busy", {
    received: "a connection that somebody else is renewing",
    retryAfterSeconds: 1,
  });
}
