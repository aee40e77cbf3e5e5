import { refreshGrant, type Grant } from "../grant/index.js";
import { fail, isProblem } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import {
  apiTokenPlace,
  seal,
  sealGrant,
  type ApiTokenRecord,
  type ConnectionRecord,
} from "../session/index.js";
import { note } from "../trace/index.js";
import {
  leaseMarginSeconds,
  leaseName,
  requireConnection,
  type Connecting,
  type ConnectionEvent,
} from "./connecting.js";
import { sealAnew } from "./seal-anew.js";
import {
  askedFor,
  isStale,
  isUsable,
  spreadOf,
  tokenOf,
  unsealGrant,
  type Holding,
  type Wanted,
} from "./tokens.js";

/**
 * The session's access token for an API, good for a while yet: refreshed first if it is about to expire (RFC 6749
 * section 6), once however many ask, in this process and in all others on the same store. docs/design-refresh.md has
 * the argument.
 *
 * @param refused what an API has just refused: not good, whatever its expiry
 * @throws connection.none, connection.ended, connection.busy, grant.no-refresh-token, grant.*, platform.*,
 *   session.seal-*, store.unavailable
 */
export async function freshToken(
  connecting: Connecting,
  sessionId: string,
  wanted: Wanted,
  refused?: Holding,
): Promise<Holding> {
  const { tools, leases } = connecting;
  const hold = (connection: ConnectionRecord): Holding | undefined => {
    const token = tokenOf(connection, wanted);
    return token && { connection, token };
  };
  const isGood = (connection: ConnectionRecord) => {
    const token = tokenOf(connection, wanted);
    return (
      token !== undefined &&
      token.sealedAccessToken !== refused?.token.sealedAccessToken &&
      !isStale(token, tools.platform.now(), spreadOf(connection))
    );
  };
  const connection = await requireConnection(connecting, sessionId, wanted.provider);
  const settled = isGood(connection)
    ? await sealAnew(connecting, connection)
    : await leases.share(`${leaseName(connection.id)} ${askedFor(wanted) && wanted.name}`, () =>
        refreshOnce(connecting, connection, wanted, isGood),
      );
  // Written by somebody else in between, for another API.
  return (
    hold(settled) ??
    fail("connection.busy", { received: `no token for ${wanted.name} yet`, retryAfterSeconds: 1 })
  );
}

/** One refresh in all processes: whoever gets the lease does it, the others wait for what comes of it. */
async function refreshOnce(
  connecting: Connecting,
  { id, sessionId, provider: name }: ConnectionRecord,
  wanted: Wanted,
  isGood: (connection: ConnectionRecord) => boolean,
): Promise<ConnectionRecord> {
  const { tools, store, backOff } = connecting;
  const { now, wait, randomBytes } = tools.platform;
  // Two APIs' tokens of one connection wait for one another, in one process as well.
  const owner = `${connecting.owner}/${wanted.name}`;
  // Read again, now that nobody else in this process can be refreshing it.
  let current = await requireConnection(connecting, sessionId, name);
  if (isGood(current)) return current;
  // Nothing to renew with: the access token serves until it expires.
  if (current.sealedRefreshToken === undefined && isUsable(tokenOf(current, wanted), now())) return current;
  const pause = backOff.secondsLeft(id, now());
  if (pause > 0) return useOrFail(connecting, current, wanted, pause);
  const provider = await openOrPutOff(connecting, current, wanted);
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
        return isGood(current) ? current : await renew(connecting, current, wanted, provider, leaseEndsAt);
      } finally {
        // A lease that cannot be given back runs out.
        await store.releaseLease(leaseName(id), owner).catch(() => undefined);
      }
    }
    if (now() > patienceEndsAt) return useOrFail(connecting, current, wanted, leaseMarginSeconds);
    await wait(0.02 + (randomBytes(1)[0] ?? 0) / 10_000);
    current = await requireConnection(connecting, sessionId, name);
    if (isGood(current)) return current;
  }
}

/** The access token while it is good; otherwise a problem that says when to try again. */
function useOrFail(
  { tools }: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  seconds: number,
): ConnectionRecord {
  if (isUsable(tokenOf(connection, wanted), tools.platform.now())) return connection;
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
  wanted: Wanted,
): Promise<Provider | undefined> {
  try {
    return await connecting.openProvider(connection.provider);
  } catch (error) {
    putOff(connecting, connection, wanted, error);
    return undefined;
  }
}

/** Notes the failure of a refresh, or throws it where the access token is of no use any more. */
function putOff(connecting: Connecting, connection: ConnectionRecord, wanted: Wanted, error: unknown): void {
  const { tools, backOff } = connecting;
  const now = tools.platform.now();
  if (!isProblem(error, ...unavailable)) throw error;
  const { code, retryAfterSeconds } = error.problem;
  backOff.note(connection.id, now, retryAfterSeconds);
  if (!isUsable(tokenOf(connection, wanted), now)) throw error;
  note(tools, "connection", "refresh put off, the access token is still good", { problem: code });
}

const unavailable = ["grant.unavailable", "platform.unreachable", "platform.too-slow"] as const;

async function renew(
  connecting: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  provider: Provider,
  leaseEndsAt: number,
): Promise<ConnectionRecord> {
  try {
    const grant = await unsealGrant(connecting, connection, provider);
    const renewed = await refreshGrant(provider, grant, wanted);
    connecting.backOff.clear(connection.id);
    const columns = await columnsOf(connecting, connection, wanted, grant, renewed);
    return await keep(connecting, connection, columns, leaseEndsAt);
  } catch (error) {
    if (isProblem(error, "grant.refresh-refused")) return await believeRefusal(connecting, connection);
    putOff(connecting, connection, wanted, error);
    return connection;
  }
}

/** What a refresh changes of a connection: its own tokens, or its refresh token and the access token of one API. */
async function columnsOf(
  connecting: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  before: Grant,
  renewed: Grant,
): Promise<Partial<ConnectionRecord>> {
  const { tools, ring } = connecting;
  const asked = askedFor(wanted);
  if (asked === "") return sealGrant(connecting, connection.id, renewed);
  const { accessToken, scope, obtainedAt, expiresAt, refreshToken } = renewed;
  const place = apiTokenPlace(connection.id, wanted.name);
  const token: ApiTokenRecord = {
    asked,
    scope,
    obtainedAt,
    ...(expiresAt !== undefined && { expiresAt }),
    sealedAccessToken: await seal(tools, ring, place, accessToken),
  };
  return {
    ...(await sealGrant(connecting, connection.id, {
      ...before,
      ...(refreshToken !== undefined && { refreshToken }),
    })),
    apiTokens: { ...connection.apiTokens, [wanted.name]: token },
  };
}

/** Writes what came of a refresh: durable before anybody sees the new access token. */
async function keep(
  connecting: Connecting,
  connection: ConnectionRecord,
  columns: Partial<ConnectionRecord>,
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
    ...columns,
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
