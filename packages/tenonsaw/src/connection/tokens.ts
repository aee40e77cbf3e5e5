import { targetParameters, type Grant, type TokenTarget } from "../grant/index.js";
import type { JsonObject, Jwk } from "../jose/index.js";
import type { Provider } from "../provider/index.js";
import {
  apiTokenPlace,
  tokenPlace,
  unseal,
  type ApiTokenRecord,
  type ConnectionRecord,
  type Keeping,
  type TokenKind,
} from "../session/index.js";

/** Which of a connection's access tokens: the one for all that was granted, or that of an API which takes its own. */
export interface Wanted extends TokenTarget {
  /** Name of the provider. */
  readonly provider: string;
  /** Name of the API. */
  readonly name: string;
}

/** An access token and the connection it belongs to. */
export interface Holding {
  readonly connection: ConnectionRecord;
  readonly token: Omit<ApiTokenRecord, "asked">;
}

/** What is asked for in place of all that was granted, as text; nothing where an API takes the common token. */
export function askedFor(wanted: Wanted): string {
  return new URLSearchParams(targetParameters(wanted)).toString();
}

export function tokenOf(connection: ConnectionRecord, wanted: Wanted): Holding["token"] | undefined {
  const asked = askedFor(wanted);
  if (asked === "") return connection;
  const { apiTokens = {} } = connection;
  const own = Object.hasOwn(apiTokens, wanted.name) ? apiTokens[wanted.name] : undefined;
  return own?.asked === asked ? own : undefined;
}

export function isUsable(token: Holding["token"] | undefined, now: number): boolean {
  return token !== undefined && (token.expiresAt === undefined || token.expiresAt > now);
}

/**
 * Refreshes one minute ahead, or a fifth of its lifetime ahead where that is short; up to half as much earlier still, so
 * that what was granted in one moment is not renewed in one moment.
 *
 * @param spread from 0 to 1
 */
export function isStale(
  { expiresAt, obtainedAt }: Pick<Grant, "expiresAt" | "obtainedAt">,
  now: number,
  spread = 0,
): boolean {
  if (expiresAt === undefined) return false;
  return now >= expiresAt - Math.min(60, (expiresAt - obtainedAt) / 5) * (1 + spread / 2);
}

/** The same in all processes, and another one after each refresh: connection IDs are random. */
export function spreadOf({ id, version }: ConnectionRecord): number {
  let sum = version;
  for (const character of id) sum = (sum * 31 + character.charCodeAt(0)) % 9973;
  return sum / 9973;
}

/** Where each token of a connection is kept. */
export const sealedColumns = {
  "access-token": "sealedAccessToken",
  "refresh-token": "sealedRefreshToken",
  "id-token": "sealedIdToken",
  "dpop-key": "sealedDpopKey",
  "token-secret": "sealedTokenSecret",
  context: "sealedContext",
  replaced: "sealedReplaced",
} as const satisfies Record<TokenKind, keyof ConnectionRecord>;

export async function unsealToken(
  keeping: Keeping,
  connection: ConnectionRecord,
  kind: TokenKind,
): Promise<string | undefined> {
  const sealed = connection[sealedColumns[kind]];
  if (sealed === undefined) return undefined;
  return await unseal(keeping.tools, keeping.ring, tokenPlace(connection, kind), sealed);
}

/** The access token that a session holds for an API. */
export async function unsealAccessToken(
  { tools, ring }: Keeping,
  { connection, token }: Holding,
  api: string,
): Promise<string> {
  const isCommon = token.sealedAccessToken === connection.sealedAccessToken;
  const place = isCommon ? tokenPlace(connection, "access-token") : apiTokenPlace(connection, api);
  return unseal(tools, ring, place, token.sealedAccessToken);
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
  const context = await unsealContext(keeping, connection);
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
    ...(context && { context }),
  };
}

/** A token that another one has taken the place of. */
export type ReplacedToken = Pick<Grant, "refreshToken"> & { readonly accessToken?: string };

/** What was granted for the same account before. */
export async function unsealReplaced(
  keeping: Keeping,
  connection: ConnectionRecord,
): Promise<readonly ReplacedToken[]> {
  const text = await unsealToken(keeping, connection, "replaced");
  return text === undefined ? [] : (JSON.parse(text) as readonly ReplacedToken[]);
}

/** The context that a host has opened the app in. */
export async function unsealContext(
  keeping: Keeping,
  connection: ConnectionRecord,
): Promise<JsonObject | undefined> {
  const text = await unsealToken(keeping, connection, "context");
  return text === undefined ? undefined : (JSON.parse(text) as JsonObject);
}

/** The key that a connection's access token is bound to. */
export async function unsealDpopKey(
  keeping: Keeping,
  connection: ConnectionRecord,
): Promise<Jwk | undefined> {
  const text = await unsealToken(keeping, connection, "dpop-key");
  return text === undefined ? undefined : (JSON.parse(text) as Jwk);
}
