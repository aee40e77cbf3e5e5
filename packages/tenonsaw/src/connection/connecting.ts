import type { OAuth1Provider } from "../oauth1/index.js";
import { fail } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import type { ConnectionRecord, Keeping } from "../session/index.js";
import type { BackOff } from "./back-off.js";
import type { Leases } from "./leases.js";

/** What happened to a connection, for the app to know. */
export interface ConnectionEvent {
  /**
   * `refreshed`; `taken over`: another process had begun and not finished; `refused`: the provider refused a token that
   * somebody else had renewed meanwhile, so that nothing is lost; `needs consent`: the provider honours the connection
   * no more, and the person has to sign in again.
   */
  readonly kind: "refreshed" | "taken over" | "refused" | "needs consent";
  readonly connectionId: string;
  readonly sessionId: string;
  readonly personId: string;
  readonly provider: string;
  /** Seconds since the epoch. */
  readonly at: number;
}

/** What connections live on: the session's store and keys, the right to refresh, and the providers by name. */
export interface Connecting extends Keeping {
  readonly leases: Leases;
  readonly backOff: BackOff;
  /** The name under which this process takes leases. */
  readonly owner: string;
  readonly openProvider: (name: string) => Promise<Provider>;
  readonly openOAuth1: (name: string) => OAuth1Provider;
  readonly onConnection?: ((event: ConnectionEvent) => void) | undefined;
}

/** How much longer a lease is than the requests made under it can be, in seconds: for reading, sealing and writing. */
export const leaseMarginSeconds = 5;

/** The name of a connection's lease: one for all its tokens. */
export function leaseName(connectionId: string): string {
  return `refresh/${connectionId}`;
}

/** @throws connection.none, connection.ended */
export async function requireConnection(
  connecting: Connecting,
  sessionId: string,
  provider: string,
): Promise<ConnectionRecord> {
  const connection = await connecting.store.findConnection(sessionId, provider);
  if (!connection) fail("connection.none", { received: `no connection at ${provider}` });
  if (connection.status === "ended") {
    fail("connection.ended", { received: `the connection at ${provider} ended earlier` });
  }
  return connection;
}
