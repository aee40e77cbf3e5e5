import { refreshGrant, type Grant } from "../grant/index.js";
import type { Jwk } from "../jose/index.js";
import type { OAuth1Provider } from "../oauth1/index.js";
import { fail, isProblem } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import {
  sealGrant,
  tokenPlace,
  unseal,
  type ConnectionRecord,
  type Keeping,
  type TokenKind,
} from "../session/index.js";
import { note } from "../trace/index.js";
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
const leaseMarginSeconds = 5;

/**
 * The session's connection at a provider, its access token good for a while yet: refreshed first if it is about to
 * expire (RFC 6749 section 6), once however many ask, in this process and in all others on the same store.
 * docs/design-refresh.md has the argument.
 *
 * @param refusedVersion of the connection whose access token an API has just refused: not good, whatever its expiry
 * @throws connection.none, connection.ended, connection.busy, grant.no-refresh-token, grant.*, platform.*,
 *   session.seal-*, store.unavailable
 */
export async function freshConnection(
  connecting: Connecting,
  sessionId: string,
  provider: string,
  refusedVersion?: number,
): Promise<ConnectionRecord> {
  const isGood = (connection: ConnectionRecord) =>
    connection.version !== refusedVersion && !isStale(connection, connecting.tools.platform.now());
  const connection = await requireConnection(connecting, sessionId, provider);
  if (isGood(connection)) return connection;
  return connecting.leases.share(connection.id, () => refreshOnce(connecting, connection, isGood));
}

/** One refresh in all processes: whoever gets the lease does it, the others wait for what comes of it. */
async function refreshOnce(
  connecting: Connecting,
  { id, sessionId, provider: name }: ConnectionRecord,
  isGood: (connection: ConnectionRecord) => boolean,
): Promise<ConnectionRecord> {
  const { tools, store, owner, backOff } = connecting;
  const { now, wait, randomBytes } = tools.platform;
  // Read again, now that nobody else in this process can be refreshing it.
  let current = await requireConnection(connecting, sessionId, name);
  if (isGood(current)) return current;
  // Nothing to renew with: the access token serves until it expires.
  if (current.sealedRefreshToken === undefined && isUsable(current, now())) return current;
  const pause = backOff.secondsLeft(id, now());
  if (pause > 0) return useOrFail(connecting, current, pause);
  const provider = await openOrPutOff(connecting, current);
  if (!provider) return current;
  // A refresh is at most two requests (the second with a nonce, RFC 9449 section 8), each cut off at the deadline.
  const leaseSeconds = 2 * provider.timeoutSeconds + leaseMarginSeconds;
  const patienceEndsAt = now() + leaseSeconds + leaseMarginSeconds;
  for (;;) {
    // Counted from before it is asked for: it ends by the store's clock no sooner than that.
    const leaseEndsAt = now() + leaseSeconds;
    const lease = await store.takeLease(leaseName(id), owner, leaseSeconds);
    if (lease !== "held") {
      if (lease === "taken over") tell(connecting, current, "taken over");
      try {
        // Whatever was written before the lease was ours is seen from here on; nobody writes while it is.
        current = await requireConnection(connecting, sessionId, name);
        return isGood(current) ? current : await renew(connecting, current, provider, leaseEndsAt);
      } finally {
        // A lease that cannot be given back runs out.
        await store.releaseLease(leaseName(id), owner).catch(() => undefined);
      }
    }
    if (now() > patienceEndsAt) return useOrFail(connecting, current, leaseMarginSeconds);
    await wait(0.02 + (randomBytes(1)[0] ?? 0) / 10_000);
    current = await requireConnection(connecting, sessionId, name);
    if (isGood(current)) return current;
  }
}

function leaseName(connectionId: string): string {
  return `refresh/${connectionId}`;
}

function isUsable({ expiresAt }: ConnectionRecord, now: number): boolean {
  return expiresAt === undefined || expiresAt > now;
}

/** The access token while it is good; otherwise a problem that says when to try again. */
function useOrFail({ tools }: Connecting, connection: ConnectionRecord, seconds: number): ConnectionRecord {
  if (isUsable(connection, tools.platform.now())) return connection;
  const retryAfterSeconds = Math.max(1, Math.ceil(seconds));
  fail("connection.busy", {
    received: `a connection at ${connection.provider} whose refresh is under way or put off`,
    retryAfterSeconds,
  });
}

/** A provider that is not available does not take away a token that is still good. */
async function openOrPutOff(
  connecting: Connecting,
  connection: ConnectionRecord,
): Promise<Provider | undefined> {
  try {
    return await connecting.openProvider(connection.provider);
  } catch (error) {
    putOff(connecting, connection, error);
    return undefined;
  }
}

/** Notes the failure of a refresh, or throws it where the access token is of no use any more. */
function putOff(connecting: Connecting, connection: ConnectionRecord, error: unknown): void {
  const { tools, backOff } = connecting;
  const now = tools.platform.now();
  if (!isProblem(error, ...unavailable)) throw error;
  const { code, retryAfterSeconds } = error.problem;
  backOff.note(connection.id, now, retryAfterSeconds);
  if (!isUsable(connection, now)) throw error;
  note(tools, "connection", "refresh put off, the access token is still good", { problem: code });
}

const unavailable = ["grant.unavailable", "platform.unreachable", "platform.too-slow"] as const;

async function renew(
  connecting: Connecting,
  connection: ConnectionRecord,
  provider: Provider,
  leaseEndsAt: number,
): Promise<ConnectionRecord> {
  try {
    const renewed = await refreshGrant(provider, await unsealGrant(connecting, connection, provider));
    connecting.backOff.clear(connection.id);
    return await keep(connecting, connection, renewed, leaseEndsAt);
  } catch (error) {
    if (isProblem(error, "grant.refresh-refused")) return await believeRefusal(connecting, connection);
    putOff(connecting, connection, error);
    return connection;
  }
}

/** Writes what came of a refresh: durable before anybody sees the new access token. */
async function keep(
  connecting: Connecting,
  connection: ConnectionRecord,
  renewed: Grant,
  leaseEndsAt: number,
): Promise<ConnectionRecord> {
  const { tools } = connecting;
  const {
    expiresAt: _expiresAt,
    sealedRefreshToken: _refreshToken,
    sealedIdToken: _idToken,
    sealedDpopKey: _dpopKey,
    ...kept
  } = connection;
  const next: ConnectionRecord = {
    ...kept,
    ...(await sealGrant(connecting, connection.id, renewed)),
    refreshCount: connection.refreshCount + 1,
    version: connection.version + 1,
  };
  if (await writeStubbornly(connecting, next, leaseEndsAt)) {
    note(tools, "connection", "refreshed silently", {
      connection: next.id,
      count: String(next.refreshCount),
    });
    tell(connecting, next, "refreshed");
    return next;
  }
  // Somebody else wrote in between, or the person signed out: what is stored counts.
  note(tools, "connection", "refreshed in vain: the connection was written or ended meanwhile", {
    connection: next.id,
  });
  return await requireConnection(connecting, connection.sessionId, connection.provider);
}

/** The provider has spent the old refresh token: a store that is away for a moment must not cost the new one. */
async function writeStubbornly(
  { tools, store }: Connecting,
  next: ConnectionRecord,
  leaseEndsAt: number,
): Promise<boolean> {
  const { now, wait } = tools.platform;
  for (;;) {
    try {
      return await store.replaceConnection(next);
    } catch (error) {
      if (!isProblem(error, "store.unavailable") || now() >= leaseEndsAt) throw error;
      note(tools, "connection", "the store is away, trying once more to keep the new tokens");
      await wait(0.1);
    }
  }
}

/** A refusal counts only if the refused token is still the stored one. */
async function believeRefusal(connecting: Connecting, refused: ConnectionRecord): Promise<ConnectionRecord> {
  const current = await requireConnection(connecting, refused.sessionId, refused.provider);
  if (current.version !== refused.version) {
    tell(connecting, current, "refused");
    return current;
  }
  await connecting.store.replaceConnection({ ...refused, status: "ended", version: refused.version + 1 });
  tell(connecting, refused, "needs consent");
  fail("connection.ended", { received: `a refusal from ${refused.provider}` });
}

function tell(
  { tools, onConnection }: Connecting,
  { id, sessionId, personId, provider }: ConnectionRecord,
  kind: ConnectionEvent["kind"],
): void {
  if (kind !== "refreshed") note(tools, "connection", kind, { connection: id });
  onConnection?.({ kind, connectionId: id, sessionId, personId, provider, at: tools.platform.now() });
}

async function requireConnection(
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

/** Refreshes one minute ahead, or a fifth of its lifetime ahead where that is short. */
export function isStale(
  { expiresAt, obtainedAt }: Pick<Grant, "expiresAt" | "obtainedAt">,
  now: number,
): boolean {
  return expiresAt !== undefined && now >= expiresAt - Math.min(60, (expiresAt - obtainedAt) / 5);
}

export async function unsealToken(
  keeping: Keeping,
  connection: ConnectionRecord,
  kind: TokenKind,
): Promise<string | undefined> {
  const sealed = {
    "access-token": connection.sealedAccessToken,
    "refresh-token": connection.sealedRefreshToken,
    "id-token": connection.sealedIdToken,
    "dpop-key": connection.sealedDpopKey,
    "token-secret": connection.sealedTokenSecret,
  }[kind];
  if (sealed === undefined) return undefined;
  return await unseal(keeping.tools, keeping.ring, tokenPlace(connection.id, kind), sealed);
}

/** The grant a connection keeps, its tokens unsealed. */
export async function unsealGrant(
  keeping: Keeping,
  connection: ConnectionRecord,
  provider: Provider,
): Promise<Grant> {
  const [accessToken, refreshToken, idToken] = [
    await unsealToken(keeping, connection, "access-token"),
    await unsealToken(keeping, connection, "refresh-token"),
    await unsealToken(keeping, connection, "id-token"),
  ];
  const dpopKey = await unsealDpopKey(keeping, connection);
  return {
    issuer: provider.issuer,
    clientId: provider.clientId,
    accessToken: accessToken ?? "",
    scope: connection.scope,
    obtainedAt: connection.obtainedAt,
    ...(connection.expiresAt !== undefined && { expiresAt: connection.expiresAt }),
    ...(refreshToken !== undefined && { refreshToken }),
    ...(idToken !== undefined && { idToken }),
    ...(dpopKey && { dpopKey }),
  };
}

/** The key that a connection's access token is bound to. */
export async function unsealDpopKey(
  keeping: Keeping,
  connection: ConnectionRecord,
): Promise<Jwk | undefined> {
  const text = await unsealToken(keeping, connection, "dpop-key");
  return text === undefined ? undefined : (JSON.parse(text) as Jwk);
}
