import { fail, isProblem, quoted, type ProblemError } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import type { ConnectionRecord } from "../session/index.js";
import { note } from "../trace/index.js";
import {
  holderOf,
  leaseName,
  requireConnection,
  tell,
  type Connecting,
  type Holder,
  askAbout,
} from "./connecting.js";
import { endConnection } from "./end-connection.js";
import { underLease, type HeldLease } from "./hold-lease.js";
import { renew } from "./renew.js";
import { sealAnew } from "./seal-anew.js";
import { askedFor, isStale, isUsable, spreadOf, tokenOf, type Holding, type Wanted } from "./tokens.js";
import { writeRenewal } from "./write-renewal.js";

/** A call waits for so many seconds for a refresh that is due and not urgent; then it uses what is still good. */
const patienceSeconds = 0.5;
/** A provider that has refused for so long, in words of its own, is not going to honour the connection any more. */
const refusedForSeconds = 600;

/**
 * The session's access token for an API, good for a while yet: refreshed first if it is about to expire (RFC 6749
 * section 6), once however many ask, in this process and in all others on the same store. docs/design-refresh.md has
 * the argument.
 *
 * @param refused what an API has just refused: not good, whatever its expiry
 * @throws connection.none, connection.ended, connection.busy, grant.no-refresh-token, grant.*, identity.*, platform.*,
 *   session.seal-*, store.unavailable
 */
export async function freshToken(
  connecting: Connecting,
  holder: Holder,
  wanted: Wanted,
  refused?: Holding,
): Promise<Holding> {
  const { tools, leases, unwritten } = connecting;
  const isRefused = (connection: ConnectionRecord) =>
    tokenOf(connection, wanted)?.sealedAccessToken === refused?.token.sealedAccessToken;
  const isGood = (connection: ConnectionRecord) => {
    const token = tokenOf(connection, wanted);
    return (
      token !== undefined &&
      !isRefused(connection) &&
      !isStale(token, tools.platform.now(), spreadOf(connection))
    );
  };
  const connection = await requireConnection(connecting, holder, wanted.provider);
  if (isGood(connection) && !unwritten.has(connection.id))
    return hold(await sealAnew(connecting, connection), wanted);
  const name = nameOf(connection, wanted);
  const refreshing = leases.share(name, () => refreshOnce(connecting, connection, wanted, isGood));
  const isUrgent = isRefused(connection) || !isUsable(tokenOf(connection, wanted), tools.platform.now());
  if (isUrgent) return hold(await refreshing, wanted);
  // What comes of it later is in the store; a failure has been noted where it happened.
  refreshing.catch(() => undefined);
  const seconds = Math.max(0, patienceSeconds - leases.ageOf(name));
  const settled = await Promise.race([refreshing, lapse(connecting, seconds)]);
  return hold(settled ?? connection, wanted);
}

/** What is refreshed, and put off, by itself: the tokens that all APIs share, or those of one. */
function nameOf({ id }: ConnectionRecord, wanted: Wanted): string {
  return `${leaseName(id)} ${askedFor(wanted) && wanted.name}`;
}

/** Where a provider's own failures are noted: no connection has such a name. */
const placeOf = ({ provider }: ConnectionRecord) => `provider ${provider}`;

const providersOwn: readonly string[] = [
  "grant.unavailable",
  "provider.unavailable",
  "platform.unreachable",
  "platform.too-slow",
];

/** Nothing, after so many seconds; at once where there are none. */
function lapse({ tools }: Connecting, seconds: number): Promise<undefined> {
  if (seconds === 0) return Promise.resolve(undefined);
  const signal = tools.platform.deadline(seconds);
  return new Promise((resolve) => {
    signal.addEventListener("abort", () => resolve(undefined), { once: true });
  });
}

/** @throws connection.busy where somebody else has written in between, for another API */
function hold(connection: ConnectionRecord, wanted: Wanted): Holding {
  const token = tokenOf(connection, wanted);
  if (token) return { connection, token };
  return fail("connection.busy", { received: `no token for ${wanted.name} yet`, retryAfterSeconds: 1 });
}

/** One refresh in all processes: whoever gets the lease does it, the others wait for what comes of it. */
async function refreshOnce(
  connecting: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  isGood: (connection: ConnectionRecord) => boolean,
): Promise<ConnectionRecord> {
  const { tools, backOff, unwritten } = connecting;
  const { now, monotonic, wait, randomBytes } = tools.platform;
  const { id, provider: name } = connection;
  const holder = holderOf(connection);
  // Read again, now that nobody else in this process can be refreshing it.
  let current = await requireConnection(connecting, holder, name);
  const isSettled = () => isGood(current) && !unwritten.has(id);
  if (isSettled()) return current;
  // Nothing to renew with: the access token serves until it expires.
  const token = tokenOf(current, wanted);
  if (current.sealedRefreshToken === undefined && token) {
    if (isUsable(token, now())) return current;
    fail("connection.ended", {
      received: `an access token for ${quoted(token.scope)} that is over, and no refresh token`,
      ask: askAbout(current),
      because: "not-renewable",
    });
  }
  const pause = backOff.pause(nameOf(current, wanted));
  if (pause) return useOrFail(connecting, current, wanted, pause.secondsLeft, `put off after ${pause.code}`);
  const provider = await openOrPutOff(connecting, current, wanted);
  if (!provider) return current;
  const away = backOff.pauseButOne(placeOf(current), provider.timeoutSeconds);
  if (away) return useOrFail(connecting, current, wanted, away.secondsLeft, `put off after ${away.code}`);
  const work = async (lease: HeldLease): Promise<ConnectionRecord | "again"> => {
    if (lease.isInherited) tell(connecting, current, "taken over");
    // What an earlier refresh brought and could not be written is newer than all that is stored.
    const left = unwritten.get(id);
    if (left) await writeRenewal(connecting, left, lease);
    // Whatever was written before the lease was ours is seen from here on.
    current = await requireConnection(connecting, holder, name);
    if (isGood(current)) return current;
    try {
      const renewed = await renew(connecting, current, wanted, provider, lease);
      backOff.clear(nameOf(current, wanted));
      backOff.clear(placeOf(current));
      return renewed;
    } catch (error) {
      if (!isProblem(error)) throw error;
      await putOff(connecting, current, wanted, error, lease);
      return current;
    }
  };
  const since = monotonic();
  for (;;) {
    const done = await underLease(connecting, current, wanted.name, provider.timeoutSeconds, work);
    if (done.kind === "done" && done.result !== "again") return done.result;
    // A holder has that long; whoever stood still and starts again does not wait for ever either.
    if (monotonic() - since > 2 * done.leaseSeconds)
      return useOrFail(connecting, current, wanted, 5, "under way elsewhere");
    await wait(0.02 + (randomBytes(1)[0] ?? 0) / 10_000);
    current = await requireConnection(connecting, holder, name);
    if (isSettled()) return current;
  }
}

/** The access token while it is good; otherwise a problem that says when to try again. */
function useOrFail(
  { tools }: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  seconds: number,
  why: string,
): ConnectionRecord {
  if (isUsable(tokenOf(connection, wanted), tools.platform.now())) return connection;
  return fail("connection.busy", {
    received: `a connection at ${connection.provider} whose refresh is ${why}`,
    retryAfterSeconds: Math.max(1, Math.ceil(seconds)),
  });
}

/** A provider that is not available, or says of itself what cannot be, takes no token away that is still good. */
async function openOrPutOff(
  connecting: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
): Promise<Provider | undefined> {
  try {
    return await connecting.openProvider(connection.provider);
  } catch (error) {
    if (!isProblem(error)) throw error;
    await putOff(connecting, connection, wanted, error);
    return undefined;
  }
}

/**
 * Notes the failure of a refresh, or throws it where the access token is of no use any more. What is the connection's
 * own, or the store's, is thrown in any case.
 */
async function putOff(
  connecting: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  error: ProblemError,
  lease?: HeldLease,
): Promise<void> {
  const { tools, backOff } = connecting;
  const { code, station } = error.problem;
  const isFinal = ["connection", "session", "store", "identity", "jose"].includes(station);
  const isThere = !providersOwn.includes(code);
  // Whatever it says, a provider that says something is there.
  if (isThere) backOff.clear(placeOf(connection));
  if (isFinal || code === "grant.no-refresh-token") throw error;
  const seconds = backOff.note(nameOf(connection, wanted), error.problem);
  // What is the provider's own is true of all its connections: the next one finds out whether it still is, after a short pause.
  if (!isThere) backOff.note(placeOf(connection), { code });
  tell(connecting, connection, "put off", code);
  if (code === "grant.provider-error" && seconds >= refusedForSeconds && lease)
    await endConnection(connecting, connection, lease, `nothing but refusals from ${connection.provider}`);
  if (!isUsable(tokenOf(connection, wanted), tools.platform.now())) throw error;
  note(tools, "connection", "refresh put off, the access token is still good", { problem: code });
  tools.report?.(error, `a refresh at ${connection.provider}, put off while the access token is good`);
}
