import { ProblemError, type Problem } from "../problem/index.js";
import { heeding } from "../trace/heeding.js";
import { isObject, tellAll, type FollowedSession } from "./follow-session.js";
import type { Ending, Where } from "./windows.js";

/** A call that waits for the person to agree to something. */
export interface Asking {
  readonly problem: Problem;
  /** Asks them, in their own click; where they agree, what waits goes on. */
  readonly agree: (where?: Where) => Promise<Ending>;
  /** What waits fails with the problem. */
  readonly refuse: () => void;
}

/** A problem, or the error that brings it, as both are at hand where a call has failed. */
export type ProblemAtHand =
  Pick<Problem, "code" | "ask"> | { readonly problem: Pick<Problem, "code" | "ask"> };

/**
 * What is to be asked of the person, as a problem says.
 *
 * @throws page.trip-unclear for what is no problem, such as a listener's event: it would lead to the list of providers
 */
export function askOf(told: ProblemAtHand): Problem["ask"] {
  const problem: unknown = isObject(told) && "problem" in told ? told.problem : told;
  if (isObject(problem) && typeof problem["code"] === "string") return (problem as unknown as Problem).ask;
  throw new ProblemError("page.trip-unclear", {
    received: `no problem, but ${typeof told}`,
    because: "asking",
  });
}

interface Waiting extends Asking {
  readonly agreed: Promise<boolean>;
  /** How many calls there are that wait. */
  calls: number;
}

/** What calls wait for, one question for all that need the same. */
export function createAskings(ask: (problem: Problem, where?: Where) => Promise<Ending>) {
  const waiting = new Map<string, Waiting>();
  const listeners = new Set<() => void>();
  const change = () => tellAll(listeners, undefined);
  const begin = (key: string, { problem }: ProblemError): Waiting => {
    let settle: (isAgreed: boolean) => void;
    const agreed = new Promise<boolean>((resolve) => (settle = resolve));
    const end = (isAgreed: boolean) => {
      waiting.delete(key);
      settle(isAgreed);
      change();
    };
    return {
      problem,
      agreed,
      calls: 0,
      async agree(where = { in: "pop-up" }) {
        const ending = await ask(problem, where);
        if (ending.kind === "granted") end(true);
        if (ending.kind === "declined") end(false);
        return ending;
      },
      refuse: () => end(false),
    };
  };
  return {
    /** @throws the problem itself, where the person does not agree; the signal's reason */
    async agreed(error: ProblemError, signal?: AbortSignal | null): Promise<void> {
      const key = JSON.stringify(error.problem.ask);
      let asked = waiting.get(key);
      if (!asked) {
        asked = begin(key, error);
        waiting.set(key, asked);
        change();
      }
      asked.calls += 1;
      try {
        if (!(await (signal ? heeding(signal, asked.agreed) : asked.agreed))) throw error;
      } finally {
        asked.calls -= 1;
        // A question that no call waits for any more is not put.
        if (asked.calls === 0 && waiting.get(key) === asked) {
          waiting.delete(key);
          change();
        }
      }
    },
    /** A session that tells of questions as it tells of changes. */
    with<Session extends FollowedSession>(
      session: Session,
    ): Session & { readonly asking: Asking | undefined } {
      const subscribe = session.subscribe.bind(session);
      return Object.defineProperty(
        Object.assign(session, {
          subscribe(listener: Parameters<FollowedSession["subscribe"]>[0]) {
            const tell = () => listener(session.now);
            listeners.add(tell);
            const end = subscribe(listener);
            return () => {
              listeners.delete(tell);
              end();
            };
          },
        }),
        "asking",
        { get: () => [...waiting.values()][0] },
      ) as Session & { readonly asking: Asking | undefined };
    },
  };
}
