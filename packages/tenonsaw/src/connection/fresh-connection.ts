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
import type { Leases } from "./leases.js";

/** What connections live on: the session's store and keys, the right to refresh, and the providers by name. */
export interface Connecting extends Keeping {
  readonly leases: Leases;
  readonly openProvider: (name: string) => Promise<Provider>;
  readonly openOAuth1: (name: string) => OAuth1Provider;
}

/**
 * The session's connection at a provider, its access token good for a while yet: refreshed first if it is about to
 * expire (RFC 6749 section 6), once however many ask.
 *
 * @param refusedVersion of the connection whose access token an API has just refused: not good, whatever its expiry
 * @throws connection.none, connection.ended, grant.no-refresh-token, grant.*, platform.*, session.seal-*
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
  return connecting.leases.share(connection.id, async () => {
    // Read again, now that nobody else in this process can be refreshing it.
    const current = await requireConnection(connecting, sessionId, provider);
    return isGood(current) ? current : renew(connecting, current);
  });
}

async function renew(connecting: Connecting, connection: ConnectionRecord): Promise<ConnectionRecord> {
  const now = connecting.tools.platform.now();
  const isStillGood = connection.expiresAt === undefined || connection.expiresAt > now;
  // Nothing to renew with: the access token serves until it expires.
  if (connection.sealedRefreshToken === undefined && isStillGood) return connection;
  try {
    return await refresh(connecting, connection);
  } catch (error) {
    if (isProblem(error, "grant.refresh-refused")) return await believeRefusal(connecting, connection);
    // A provider that is not available does not take away a token that is still good.
    if (!isStillGood || !isProblem(error, ...unavailable)) throw error;
    note(connecting.tools, "connection", "refresh put off, the access token is still good", {
      problem: error.problem.code,
    });
    return connection;
  }
}

const unavailable = ["grant.unavailable", "platform.unreachable", "platform.too-slow"] as const;

async function refresh(connecting: Connecting, connection: ConnectionRecord): Promise<ConnectionRecord> {
  const { tools, store } = connecting;
  const provider = await connecting.openProvider(connection.provider);
  const renewed = await refreshGrant(provider, await unsealGrant(connecting, connection, provider));
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
  // Durable before anybody sees the new access token.
  if (await store.replaceConnection(next)) {
    note(tools, "connection", "refreshed silently", {
      connection: next.id,
      count: String(next.refreshCount),
    });
    return next;
  }
  // Somebody else wrote in between, or the person signed out: what is stored counts.
  return await requireConnection(connecting, connection.sessionId, connection.provider);
}

/** A refusal counts only if the refused token is still the stored one. */
async function believeRefusal(connecting: Connecting, refused: ConnectionRecord): Promise<ConnectionRecord> {
  const current = await requireConnection(connecting, refused.sessionId, refused.provider);
  if (current.version !== refused.version) return current;
  await connecting.store.replaceConnection({ ...refused, status: "ended", version: refused.version + 1 });
  fail("connection.ended", { received: `a refusal from ${refused.provider}` });
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
