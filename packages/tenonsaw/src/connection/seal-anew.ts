import { isProblem } from "../problem/index.js";
import {
  apiTokenPlace,
  isSealedWithRetired,
  seal,
  tokenPlace,
  unseal,
  type ConnectionRecord,
  type Keeping,
  type TokenKind,
} from "../session/index.js";
import { note } from "../trace/index.js";
import { leaseMarginSeconds, leaseName, requireConnection, type Connecting } from "./connecting.js";
import { sealedColumns } from "./tokens.js";

/**
 * A connection whose tokens were sealed with a key that is retired is sealed with the current one when it is used next,
 * so that the retired one can be taken away in the end. Whatever stops that stops nothing else.
 */
export async function sealAnew(connecting: Connecting, found: ConnectionRecord): Promise<ConnectionRecord> {
  const { tools, store, ring, leases, owner } = connecting;
  const { id, sealedAccessToken } = found;
  if (!isSealedWithRetired(ring, sealedAccessToken)) return found;
  return leases.share(`seal/${id}`, async () => {
    const isOurs = await store.takeLease(leaseName(id), `seal/${owner}`, leaseMarginSeconds);
    if (isOurs === "held") return found;
    try {
      const current = await requireConnection(connecting, found.sessionId, found.provider);
      if (!isSealedWithRetired(ring, current.sealedAccessToken)) return current;
      const { apiTokens = {}, version } = current;
      const next: ConnectionRecord = {
        ...current,
        ...(await sealTokensAnew(connecting, current)),
        ...(current.apiTokens && {
          apiTokens: Object.fromEntries(
            await Promise.all(
              Object.entries(apiTokens).map(async ([name, token]) => {
                const place = apiTokenPlace(id, name);
                const value = await unseal(tools, ring, place, token.sealedAccessToken);
                return [
                  name,
                  { ...token, sealedAccessToken: await seal(tools, ring, place, value) },
                ] as const;
              }),
            ),
          ),
        }),
        version: version + 1,
      };
      return (await store.replaceConnection(next)) ? next : current;
    } catch (error) {
      if (!isProblem(error)) throw error;
      note(tools, "connection", "not sealed anew", { connection: id, problem: error.problem.code });
      return found;
    } finally {
      await store.releaseLease(leaseName(id), `seal/${owner}`).catch(() => undefined);
    }
  });
}

async function sealTokensAnew(
  { tools, ring }: Keeping,
  connection: ConnectionRecord,
): Promise<Partial<ConnectionRecord>> {
  const columns: Partial<Record<(typeof sealedColumns)[TokenKind], string>> = {};
  for (const [kind, column] of Object.entries(sealedColumns) as [
    TokenKind,
    (typeof sealedColumns)[TokenKind],
  ][]) {
    const sealed = connection[column];
    if (sealed === undefined) continue;
    const place = tokenPlace(connection.id, kind);
    columns[column] = await seal(tools, ring, place, await unseal(tools, ring, place, sealed));
  }
  return columns;
}
