import { attemptLifetimeSeconds } from "../../attempt/index.js";
import { unsealGrant, unsealReplaced } from "../../connection/index.js";
import { revokeGrant, type Grant } from "../../grant/index.js";
import { fail, isProblem, type ProblemCode } from "../../problem/index.js";
import { hashId, type ConnectionRecord, type SessionQuery } from "../../session/index.js";
import { note } from "../../trace/index.js";
import { routes } from "../context/addresses.js";
import { requirePersonId } from "./person-id.js";
import type { Context } from "../context/context.js";

/**
 * The one place that decides what becomes of tokens when what they were for is over: a sign-out of any kind, a new sign-in
 * in the same browser, a session that expired, an account that is unlinked or linked anew, a person who is removed. They
 * are taken back at the provider (RFC 7009), where the settings want it and the provider can.
 *
 * @returns where to sign out at the provider of the first of them that has such a place
 */
export async function release(
  context: Context,
  held: readonly ConnectionRecord[],
): Promise<string | undefined> {
  const { atProvider, revokeTokens } = context.settings.signOut;
  // Nothing to ask anybody: no provider is opened, and no token unsealed, for it.
  if (!atProvider && !revokeTokens) return undefined;
  let next: string | undefined;
  const away = new Set<string>();
  // OAuth 1.0a knows neither sign-out nor revocation.
  for (const connection of held.filter(({ sealedTokenSecret }) => sealedTokenSecret === undefined)) {
    if (away.has(connection.provider)) {
      tryLater(context, connection);
      continue;
    }
    try {
      const provider = await context.providers.open(connection.provider);
      const grant = await unsealGrant(context, connection, provider);
      const endpoint = provider.metadata.end_session_endpoint;
      if (endpoint !== undefined && atProvider) {
        const url = new URL(endpoint);
        if (grant.idToken !== undefined) url.searchParams.set("id_token_hint", grant.idToken);
        url.searchParams.set("client_id", provider.clientId);
        url.searchParams.set("post_logout_redirect_uri", routes(context.settings).signedOut);
        next ??= url.href;
      }
      if (revokeTokens && connection.status === "active") await revokeGrant(provider, grant);
      if (revokeTokens)
        for (const { accessToken = "", refreshToken } of await unsealReplaced(context, connection)) {
          const { refreshToken: _newest, ...rest } = grant;
          await revokeGrant(provider, {
            ...rest,
            accessToken,
            ...(refreshToken !== undefined && { refreshToken }),
          });
        }
      context.unrevoked.delete(connection.id);
    } catch (error) {
      if (!isProblem(error)) throw error;
      const { code } = error.problem;
      // Whoever is away now is away for the next one as well.
      if (unavailable.includes(code)) {
        away.add(connection.provider);
        tryLater(context, connection);
      }
      note(context.tools, "server", "tokens not revoked", { problem: code, provider: connection.provider });
      context.tools.report?.(error, `taking tokens back at ${connection.provider}`);
    }
  }
  return next;
}

const unavailable: readonly ProblemCode[] = [
  "platform.unreachable",
  "platform.too-slow",
  "provider.unavailable",
];

/** Tokens that could not be taken back are tried again for so long, as long as this process lives. */
const patienceSeconds = 86_400;
const mostUnrevoked = 1000;

function tryLater({ unrevoked, settings, tools }: Context, connection: ConnectionRecord): void {
  const now = tools.platform.monotonic();
  const known = unrevoked.get(connection.id);
  if (known && known.until <= now) unrevoked.delete(connection.id);
  if (known || !settings.signOut.revokeTokens || unrevoked.size >= mostUnrevoked) return;
  unrevoked.set(connection.id, { connection, until: now + patienceSeconds });
}

/** What is to be taken back with the next sweep: what it found, and some of what could not be before. */
export function withUnrevoked(
  { unrevoked }: Context,
  held: readonly ConnectionRecord[],
): readonly ConnectionRecord[] {
  return [...held, ...[...unrevoked.values()].slice(0, 100).map(({ connection }) => connection)];
}

/** The same, for which nobody waits. */
export function releaseLater(context: Context, held: readonly ConnectionRecord[]): void {
  if (held.length === 0) return;
  release(context, held).catch((error: unknown) => {
    const reason = error instanceof Error ? error.name : "unknown";
    note(context.tools, "server", "tokens not revoked", { reason });
    context.tools.report?.(error, "taking tokens back");
  });
}

/** Tokens that nobody is going to use are taken back, where the settings want it and the provider can. */
export async function takeBack(
  { tools, providers, settings }: Pick<Context, "tools" | "providers" | "settings">,
  name: string,
  grant: Grant,
): Promise<void> {
  if (!settings.signOut.revokeTokens) return;
  try {
    await (await providers.line(name)).revoke(grant);
  } catch (error) {
    if (!isProblem(error)) throw error;
    note(tools, "server", "tokens not revoked", { problem: error.problem.code });
    tools.report?.(error, `taking tokens back at ${name}`);
  }
}

/**
 * Removes a person with everything that is theirs, and takes their tokens back.
 *
 * @returns false where nothing was known of anybody of this ID
 * @throws session.person-unusable, store.in-browser, store.unavailable
 */
export async function forget(context: Context, personId: unknown): Promise<boolean> {
  const id = requirePersonId(personId);
  if (!context.browserStore) await noteForgotten(context, id);
  const identities = await context.store.findIdentities(id);
  const held = await context.store.removePerson(id);
  await release(context, held);
  return identities.length + held.length > 0;
}

const forgottenPlace = async ({ tools }: Pick<Context, "tools">, personId: string) =>
  `forgotten/${await hashId(tools.platform, personId)}`;

/** For as long as an attempt of theirs can be under way. */
async function noteForgotten(context: Context, personId: string): Promise<void> {
  const now = context.tools.platform.now();
  const until = Math.ceil(now) + attemptLifetimeSeconds;
  await context.store.useMark(await forgottenPlace(context, personId), until, now);
}

/** Whether a person was removed after an attempt of theirs had begun: what comes of that is nobody's. */
export async function wasForgotten(context: Context, personId: string, beganAt: number): Promise<boolean> {
  // The mark lasts until so long after the removal.
  return context.store.isMarked(await forgottenPlace(context, personId), beganAt + attemptLifetimeSeconds);
}

/**
 * Ends all sessions that a query finds, however many.
 *
 * @throws store.in-browser for the sessions of a person where sessions are kept there, store.unavailable
 */
export async function endAll(
  { store, browserStore }: Pick<Context, "store" | "browserStore">,
  query: SessionQuery,
): Promise<{ readonly count: number; readonly held: readonly ConnectionRecord[] }> {
  if (browserStore && query.personId !== undefined)
    fail("store.in-browser", { received: "a person's sessions in all browsers" });
  const held: ConnectionRecord[] = [];
  let count = 0;
  // A store returns so many at a time.
  for (;;) {
    const found = await store.findSessions(query);
    if (found.length === 0) return { count, held };
    for (const { session } of found) held.push(...(await store.endSession(session.id)));
    count += found.length;
  }
}
