import { wordsIn } from "../../platform/index.js";
import type { Api, Holder } from "../../connection/index.js";
import { fail, quoted } from "../../problem/index.js";
import { isOver, type KeptConnection } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { connectionSettings } from "../settings/connection-settings.js";
import { requirePersonId } from "../sessions/person-id.js";

/** An account that a person has connected, without its tokens. */
export interface AccountView {
  /** Of the connection: to disconnect it by. Another one after it was connected anew. */
  readonly id: string;
  readonly provider: string;
  /** What people see of the provider. */
  readonly title: string;
  /** The provider's own ID of the account: to name it by in calls. */
  readonly account: string;
  /** What the provider calls it. */
  readonly name?: string;
  /** Whether the provider itself named the account, or only the address that the browser came back with. */
  readonly isConfirmed: boolean;
  readonly scope: readonly string[];
  /** What that allows, in the settings' words; scopes without words are left as they are. */
  readonly allows: readonly string[];
  /** `needs consent` once the provider honours it no more, or it is over: connect the account again. */
  readonly status: "in order" | "needs consent";
  /** When it ends for good: access tokens that cannot be renewed do. Seconds since the epoch. */
  readonly endsAt?: number;
  /** Seconds since the epoch. */
  readonly connectedAt: number;
  /** The last call, to about a minute. Seconds since the epoch. */
  readonly lastUsedAt?: number;
}

/** What a person has connected in the environment that this app runs in, the newest first. */
export async function listAccounts(context: Context, personId: string): Promise<readonly AccountView[]> {
  const { store, environment } = context;
  requirePersonId(personId);
  return (await store.findAllKept({ personId, environment })).map((each) => viewAccount(context, each));
}

function viewAccount({ settings, providers, tools }: Context, connection: KeptConnection): AccountView {
  const { id, provider, account, accountName, confirmedAt, connectedAt, lastUsedAt, expiresAt } = connection;
  const { scopeWords = {} } = connectionSettings(settings, provider) ?? {};
  const scope = wordsIn(connection.scope);
  const isRenewable = connection.sealedRefreshToken !== undefined;
  return {
    id,
    provider,
    title: providers.titleOf(provider),
    account,
    ...(accountName !== undefined && { name: accountName }),
    isConfirmed: confirmedAt !== undefined,
    scope,
    allows: scope.map((each) => (Object.hasOwn(scopeWords, each) ? (scopeWords[each] ?? each) : each)),
    status: isOver(connection, tools.platform.now()) ? "needs consent" : "in order",
    ...(expiresAt !== undefined && !isRenewable && { endsAt: expiresAt }),
    connectedAt,
    ...(lastUsedAt !== undefined && { lastUsedAt }),
  };
}

/** Whose call it is. */
export interface Caller {
  readonly personId: string;
  /** The session that it is made in. */
  readonly sessionId?: string;
  /** The account that it is for, by the provider's ID. */
  readonly account?: string | undefined;
  /** The host that the session was launched from, with its tenant; absent for every other session. */
  readonly launchedAt?: string | undefined;
}

/**
 * Which connection a call is made with: the session's, where people sign in with the API's provider; or the person's account
 * there, the only one or the one that is named.
 *
 * @throws connection.none, connection.account-unclear, connection.other-environment
 */
export async function holderFor(
  context: Context,
  caller: Caller,
  { provider }: Pick<Api, "provider">,
): Promise<Holder> {
  const { settings, store, environment, tools } = context;
  const { personId, sessionId, account } = caller;
  const declared = connectionSettings(settings, provider);
  if (sessionId !== undefined && account === undefined && (!declared || declared.alsoForSignIn)) {
    const own = declared && (await store.findConnection(sessionId, provider));
    if (!declared || (own && !isOver(own, tools.platform.now()))) return { sessionId };
  }
  const ask = { provider };
  const because = context.ownPersonOf ? "own-sign-in" : undefined;
  if (!declared) {
    const at =
      account === undefined && !because ? provider : `${provider}, of which no accounts are connected here`;
    return fail("connection.none", { received: `no connection at ${at}`, ask, because });
  }
  const find = (query: object, most: number) => store.findAllKept({ personId, provider, ...query }, { most });
  // Of all that a person has connected, what this call is about, and no more than can be named.
  const named = account !== undefined && { account };
  const fitting = await find({ environment, ...named }, account === undefined ? mostNamed + 1 : 1);
  const [only, ...more] = fitting;
  if (only && more.length === 0) {
    touch(context, only);
    return { keptId: only.id };
  }
  if (only)
    return fail("connection.account-unclear", {
      received: `${provider}, with ${fitting.length > mostNamed ? `more than ${mostNamed}` : fitting.length} connected accounts`,
      expected: `one of the accounts ${listOf(fitting)}`,
    });
  const [elsewhere] = await find({ ...named }, 1);
  if (elsewhere)
    return fail("connection.other-environment", {
      received: `an account at ${provider} connected in ${quoted(elsewhere.environment)}`,
      expected: `one connected in ${quoted(environment)}, where the app runs now`,
      ask,
    });
  if (account === undefined)
    return fail("connection.none", { received: `no account at ${provider}`, ask, because });
  const here = await find({ environment }, mostNamed + 1);
  const known = here.length === 0 ? "none is connected" : `connected are ${listOf(here)}`;
  return fail("connection.none", {
    received: `no account ${quoted(account, 80)} at ${provider}; ${known}`,
    ask: { ...ask, account },
    because: here.length === 0 ? because : "account",
  });
}

/** So many of somebody's accounts are named where one has to be chosen. */
const mostNamed = 20;

const listOf = (all: readonly KeptConnection[]) =>
  all.slice(0, mostNamed).map(nameOf).join(", ") + (all.length > mostNamed ? ", and others" : "");

function nameOf({ account, accountName }: KeptConnection): string {
  return accountName === undefined ? quoted(account, 80) : `${quoted(account, 80)} (${accountName})`;
}

const touchSeconds = 60;

/** Noted now and then, and nobody waits for it. */
function touch({ tools, store }: Context, { id, lastUsedAt = 0 }: KeptConnection): void {
  const now = Math.floor(tools.platform.now());
  if (now - lastUsedAt >= touchSeconds)
    void store
      .touchKept(id, now)
      .catch((error: unknown) => tools.report?.(error, "noting that a connection is in use"));
}
