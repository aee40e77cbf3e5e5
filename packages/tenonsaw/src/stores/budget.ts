import { readingSeconds } from "../platform/index.js";
import { ProblemError, isProblem } from "../problem/index.js";
import type { Store } from "../session/index.js";
import { whyAway } from "./why-away.js";

/** What one call of a store may cost. */
export interface StoreBudget {
  /** A call that has no answer by then is refused; whatever it is still doing, nobody waits for it any more. */
  readonly deadlineSeconds: number;
  /** So many calls may wait for an answer at once. */
  readonly mostWaiting: number;
}

export const storeBudget: StoreBudget = { deadlineSeconds: 5, mostWaiting: 5000 };

/** So many time-outs without an answer in between, and the store counts as away. */
const timeOutsUntilAway = 3;
/** For so long nobody is let through to a store that is away; then one call finds out whether it is back. */
const pauseSeconds = 1;

/** One call under way. */
export interface StoreCall {
  /** Whether its time is over: nothing it does from then on may have an effect. */
  readonly isOver: boolean;
}

export interface Budget {
  /** @throws store.unavailable */
  readonly ask: <Result>(work: (call: StoreCall) => Promise<Result>) => Promise<Result>;
}

/**
 * The budget of one store's calls, in one place: each has a deadline; when several pass theirs the store counts as away,
 * and calls are refused at once until one of them, a second apart, gets an answer; what goes wrong is one problem.
 *
 * @param where such as "Redis at host:port/0", without a password
 * @param onAway is told when the store counts as away
 * @param said why nobody may be there, as the driver has it
 */
export function createBudget(
  where: string,
  onAway?: () => void,
  limits = storeBudget,
  said?: () => Error | undefined,
): Budget {
  const { deadlineSeconds, mostWaiting } = limits;
  let waiting = 0;
  let timeOuts = 0;
  let awayUntil = -Infinity;
  const now = () => performance.now() / 1000;
  const refusal = (reason: string, cause?: unknown) =>
    new ProblemError("store.unavailable", {
      received: `${where}: ${reason}`,
      retryAfterSeconds: pauseSeconds,
      because: whyAway(cause),
      ...(cause !== undefined && { cause }),
    });
  const noteTimeOut = () => {
    timeOuts += 1;
    if (timeOuts < timeOutsUntilAway) return;
    awayUntil = now() + pauseSeconds;
    onAway?.();
  };
  const settle = async <Result>(work: (call: StoreCall) => Promise<Result>): Promise<Result> => {
    const call = { isOver: false };
    let timer: ReturnType<typeof setTimeout> | undefined;
    const late = new Promise<never>((_, reject) => {
      const end = () => {
        call.isOver = true;
        noteTimeOut();
        const why = said?.();
        const reason = why && ` (${why.message || why.name})`;
        reject(refusal(`no answer within ${deadlineSeconds} s${reason ?? ""}`, why));
      };
      timer = setTimeout(
        () => {
          timer = setTimeout(end, readingSeconds * 1000);
        },
        (deadlineSeconds - readingSeconds) * 1000,
      );
    });
    try {
      const result = await Promise.race([work(call), late]);
      timeOuts = 0;
      return result;
    } catch (error) {
      // Any answer, a refusal too, shows that somebody is there.
      if (!call.isOver) timeOuts = 0;
      if (isProblem(error)) throw error;
      // The drivers' own words name tables and hosts, not values.
      throw refusal(error instanceof Error ? error.message || error.name : "no reason given", error);
    } finally {
      clearTimeout(timer);
    }
  };
  return {
    async ask(work) {
      if (timeOuts >= timeOutsUntilAway) {
        if (now() < awayUntil) throw refusal("has not answered for a while");
        // This call finds out; those that come while it does are refused.
        awayUntil = now() + deadlineSeconds + pauseSeconds;
      }
      if (waiting >= mostWaiting) throw refusal(`${waiting} calls are waiting for an answer`);
      waiting += 1;
      try {
        return await settle(work);
      } finally {
        waiting -= 1;
      }
    },
  };
}

export const storeMethods = [
  "addAttempt",
  "findAttempt",
  "useAttempt",
  "saveSignIn",
  "findIdentity",
  "findIdentities",
  "linkIdentity",
  "unlinkIdentity",
  "findSession",
  "findSessions",
  "changeSession",
  "endSession",
  "useMark",
  "isMarked",
  "takeLease",
  "releaseLease",
  "removePerson",
  "findConnection",
  "replaceConnection",
  "keepConnection",
  "findKept",
  "findAllKept",
  "touchKept",
  "dropKept",
  "sweep",
  "close",
] as const satisfies readonly (keyof Store)[];

const budgeted = new WeakSet<Store>();

/**
 * A store whose every call is held to a budget, whoever made it: a store of one's own that never answers, or fails with
 * an error of its own, is as harmless as one of ours.
 */
export function withinBudget(store: Store, budget = createBudget("the store")): Store {
  if (budgeted.has(store)) return store;
  const { namePerson, isForgetful, evictsBy } = store;
  const held = namePerson ? [...storeMethods, "namePerson" as const] : storeMethods;
  const members = held.map((name) => [
    name,
    // A method may be anything, until it has answered.
    (...values: never[]) =>
      budget.ask(async () => (store[name] as (...values: never[]) => Promise<unknown>).apply(store, values)),
  ]);
  const within = {
    ...(Object.fromEntries(members) as Store),
    ...(isForgetful && { isForgetful }),
    ...(evictsBy !== undefined && { evictsBy }),
  };
  return keepsItsBudget(within);
}

/** For a store that holds its calls to a budget by itself. */
export function keepsItsBudget(store: Store): Store {
  budgeted.add(store);
  return store;
}
