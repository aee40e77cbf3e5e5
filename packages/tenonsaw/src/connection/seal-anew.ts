import { isProblem } from "../problem/index.js";
import {
  apiTokenPlace,
  isSealedWithRetired,
  seal,
  tokenPlace,
  unseal,
  type ApiTokenRecord,
  type ConnectionRecord,
  type Keeping,
  type TokenKind,
} from "../session/index.js";
import { note } from "../trace/index.js";
import { holderOf, requireConnection, type Connecting } from "./connecting.js";
import { underLease } from "./hold-lease.js";
import { sealedColumns } from "./tokens.js";

/**
 * A connection whose tokens were sealed with a key that is retired is sealed with the current one when it is used next,
 * so that the retired one can be taken away in the end. Whatever stops that stops nothing else.
 */
export async function sealAnew(connecting: Connecting, found: ConnectionRecord): Promise<ConnectionRecord> {
  const { tools, store, ring, leases } = connecting;
  const { id, sealedAccessToken } = found;
  if (!isSealedWithRetired(ring, sealedAccessToken)) return found;
  return leases.share(`seal/${id}`, async () => {
    try {
      const done = await underLease(connecting, found, "seal", 0, async (lease) => {
        const current = await requireConnection(connecting, holderOf(found), found.provider);
        if (!isSealedWithRetired(ring, current.sealedAccessToken)) return current;
        const tokens = await sealTokensAnew(connecting, current);
        // The same tokens: whoever renews them, before or after, goes first.
        const next: ConnectionRecord = { ...current, ...tokens, version: current.version + 1 };
        return (await store.replaceConnection(next, lease)) ? next : current;
      });
      return done.kind === "done" ? done.result : found;
    } catch (error) {
      if (!isProblem(error)) throw error;
      note(tools, "connection", "not sealed anew", { connection: id, problem: error.problem.code });
      tools.report?.(error, "sealing tokens with the newest key");
      return found;
    }
  });
}

type SealedColumn = (typeof sealedColumns)[TokenKind];

/** Each token of a connection, sealed once more for its own place. */
async function sealTokensAnew(
  { tools, ring }: Keeping,
  connection: ConnectionRecord,
): Promise<Partial<ConnectionRecord>> {
  const { apiTokens } = connection;
  const anew = async (place: string, sealed: string) =>
    seal(tools, ring, place, await unseal(tools, ring, place, sealed));
  const columns: Partial<Record<SealedColumn, string>> = {};
  for (const [kind, column] of Object.entries(sealedColumns) as [TokenKind, SealedColumn][]) {
    const sealed = connection[column];
    if (sealed !== undefined) columns[column] = await anew(tokenPlace(connection, kind), sealed);
  }
  if (!apiTokens) return columns;
  const own: [string, ApiTokenRecord][] = [];
  for (const [name, token] of Object.entries(apiTokens)) {
    const sealedAccessToken = await anew(apiTokenPlace(connection, name), token.sealedAccessToken);
    own.push([name, { ...token, sealedAccessToken }]);
  }
  return { ...columns, apiTokens: Object.fromEntries(own) };
}
