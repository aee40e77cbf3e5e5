import type { JsonObject } from "../jose/index.js";
import type { OAuth1Provider } from "../oauth1/index.js";
import { fail, type ProblemCode } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import type { Grant } from "../grant/index.js";
import type { ConnectionRecord, Keeping, Lease } from "../session/index.js";
import { note } from "../trace/index.js";
import type { BackOff } from "./back-off.js";
import type { Leases } from "./leases.js";
import type { Stubborn } from "./stubborn.js";

/** What happened to a connection, for the app to know. */
export interface ConnectionEvent {
  /**
   * `refreshed`; `taken over`: another process had begun and not finished; `refused`: the provider refused a token that
   * somebody else had renewed meanwhile, so that nothing is lost; `put off`: a refresh has failed and is tried again
   * later, `problem` says why; `needs consent`: the provider honours the connection no more, and the person has to sign in
   * again.
   */
  readonly kind: "refreshed" | "taken over" | "refused" | "put off" | "needs consent";
  /** Code of the problem. */
  readonly problem?: ProblemCode;
  readonly connectionId: string;
  /** The session that holds the connection; absent where it is kept for its person. */
  readonly sessionId?: string;
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
  /** What a refresh has brought and no store has taken yet, by the connection's ID. */
  readonly unwritten: Unwritten;
  readonly stubborn: Stubborn;
  /** Takes back tokens that nobody is going to use, at the provider of that name. */
  readonly takeBack: (provider: string, grant: Grant) => Promise<void>;
  readonly openProvider: (name: string) => Promise<Provider>;
  readonly openOAuth1: (name: string) => OAuth1Provider;
  /** Is told what a refresh brought, once it is kept. */
  readonly onRenewed?: (renewed: Renewed) => Promise<void>;
  readonly onConnection?: ((event: ConnectionEvent) => void) | undefined;
}

/** What a refresh brought. */
export interface Renewed {
  readonly connection: ConnectionRecord;
  readonly provider: Provider;
  readonly grant: Grant;
  /** Of the ID token that came with it, if one did. */
  readonly idClaims: JsonObject | undefined;
  /** Whether the access token is for one API, and not for the provider's own endpoints. */
  readonly isForApi: boolean;
}

/** A refresh's result on its way to the store: in the memory of the process that has it, and nowhere else. */
export type Unwritten = Map<string, Renewal>;

export interface Renewal {
  /** What the result is based on. */
  readonly base: ConnectionRecord;
  /** The members that it changes. */
  readonly columns: Partial<ConnectionRecord>;
  /** The lease it was asked for under. */
  readonly lease: Lease;
}

/** How much longer a lease is than the requests made under it can be, in seconds: for reading, sealing and writing. */
export const leaseMarginSeconds = 5;

/** The name of a connection's lease: one for all its tokens. */
export function leaseName(connectionId: string): string {
  return `refresh/${connectionId}`;
}

/** Where a connection is found: with the session that holds it, or by its own ID where it is kept for its person. */
export type Holder = { readonly sessionId: string } | { readonly keptId: string };

export function holderOf({ id, sessionId }: ConnectionRecord): Holder {
  return sessionId === undefined ? { keptId: id } : { sessionId };
}

export function findHeld(
  { store }: Pick<Connecting, "store">,
  holder: Holder,
  provider: string,
): Promise<ConnectionRecord | undefined> {
  return "keptId" in holder
    ? store.findKept(holder.keptId)
    : store.findConnection(holder.sessionId, provider);
}

/** What a person is asked for: at the connection's provider, and about its account where it has one. */
export function askAbout(connection: ConnectionRecord): {
  readonly provider: string;
  readonly account?: string;
} {
  const { provider, account } = connection as ConnectionRecord & { readonly account?: string };
  return { provider, ...(account !== undefined && { account }) };
}

/** @throws connection.none, connection.ended */
export async function requireConnection(
  connecting: Connecting,
  holder: Holder,
  provider: string,
): Promise<ConnectionRecord> {
  const connection = await findHeld(connecting, holder, provider);
  if (!connection) fail("connection.none", { received: `no connection at ${provider}` });
  // Ended by somebody who did not know what this process has yet to write.
  if (connection.status === "ended" && !connecting.unwritten.has(connection.id)) {
    fail("connection.ended", {
      received: `the connection at ${provider} ended earlier`,
      ask: askAbout(connection),
    });
  }
  return connection;
}

/** Tells the app, and the trace. */
export function tell(
  { tools, onConnection }: Connecting,
  { id, sessionId, personId, provider }: ConnectionRecord,
  kind: ConnectionEvent["kind"],
  problem?: ProblemCode,
): void {
  const about = problem === undefined ? {} : { problem };
  if (kind !== "refreshed") note(tools, "connection", kind, { connection: id, ...about });
  const at = tools.platform.now();
  const held = sessionId === undefined ? {} : { sessionId };
  onConnection?.({ kind, ...about, connectionId: id, ...held, personId, provider, at });
}
