import type { Problem, ProblemError } from "../problem/index.js";
import type { FollowedSession } from "./follow-session.js";
import type { Ending } from "./windows.js";
import type { Where } from "./page-session.js";

/** A call that waits for the person to agree to something. */
export interface Asking {
  readonly problem: Problem;
  /** Asks them, in their own click; where they agree, what waits goes on. */
  agree(where?: Where): Promise<Ending>;
  /** What waits fails with the problem. */
  refuse(): void;
}

interface Waiting extends Asking {
  readonly agreed: Promise<void>;
}

/** What calls wait for, one question for all that need the same. */
export function createAskings(ask: (problem: Problem, where?: Where) => Promise<Ending>) {
  const waiting = new Map<string, Waiting>();
  const listeners = new Set<() => void>();
  const change = () => {
    for (const listener of [...listeners]) listener();
  };
  const begin = (key: string, error: ProblemError): Waiting => {
    let asked: Pick<Waiting, "agree" | "refuse"> = { agree: () => ask(error.problem), refuse: () => {} };
    const agreed = new Promise<void>((resolve, reject: (error: ProblemError) => void) => {
      const end = (settle: () => void) => {
        waiting.delete(key);
        settle();
        change();
      };
      asked = {
        async agree(where = { in: "pop-up" }) {
          const ending = await ask(error.problem, where);
          if (ending.kind === "granted") end(resolve);
          if (ending.kind === "declined") end(() => reject(error));
          return ending;
        },
        refuse: () => end(() => reject(error)),
      };
    });
    return { problem: error.problem, agreed, ...asked };
  };
  return {
    async agreed(error: ProblemError): Promise<void> {
      const key = JSON.stringify(error.problem.ask);
      const known = waiting.get(key);
      if (known) return known.agreed;
      const begun = begin(key, error);
      waiting.set(key, begun);
      change();
      return begun.agreed;
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
