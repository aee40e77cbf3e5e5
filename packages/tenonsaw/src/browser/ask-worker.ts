import { ProblemError, quoted, type CauseOf, type Problem } from "../problem/index.js";
import type { Change } from "./token-holder.js";
import type { FetchAnswer, Told, WorkerCall } from "./worker-calls.js";

/** A worker that does not say within so long that it is there, is not. Before its first word its script may be on its way. */
const silenceMilliseconds = { later: 3000, first: 30_000 };
const patienceMilliseconds = 1000;
/** What has not been heard of for so long is spoken of, and waited for. */
const wonderMilliseconds = 5000;

/** What is known of a worker that is given up. */
interface Silence {
  readonly received: string;
  readonly because?: CauseOf<"page.worker-silent">;
}

interface Waiting {
  readonly resolve: (value: unknown) => void;
  readonly reject: (error: unknown) => void;
  readonly askAgain: (why: Silence) => void;
  isHere: boolean;
}

/**
 * Asks a worker, and makes another in its place where it does not answer to be there: a browser that is short of memory ends
 * one without a word. What it had said to be at is given up; what it had not is asked once more.
 *
 * @throws page.worker-silent, and what the worker answers
 */
export function createAsker(
  make: (() => Worker) | undefined,
  onChange: (change: Change) => void,
  say: (problem: Problem) => void,
) {
  const waiting = new Map<number, Waiting>();
  let worker: Worker | undefined;
  const spoken = new WeakSet<Worker>();
  let last = 0;
  const replace = (silent: Worker, why: Silence) => {
    if (worker !== silent) return;
    silent.terminate();
    worker = undefined;
    for (const [id, each] of [...waiting]) {
      if (!each.isHere) each.askAgain(why);
      else {
        waiting.delete(id);
        each.reject(new ProblemError("page.worker-silent", why));
      }
    }
  };
  const open = (): Worker => {
    const made = typeof make === "function" ? make() : undefined;
    if (typeof made?.postMessage !== "function")
      throw new ProblemError("page.worker-silent", {
        received: `\`worker\` is ${typeof make === "function" ? "a function that makes none" : typeof make}`,
        because: "none",
      });
    // Of a script that does not come, or may not, a browser says no more than that (HTML Standard, 10.2.4).
    made.addEventListener("error", ({ message }: Partial<ErrorEvent>) => {
      if (spoken.has(made)) return;
      if (message === undefined)
        replace(made, { received: "no script that can be run", because: "not-loaded" });
      else replace(made, { received: `its script failed: ${quoted(message)}`, because: "failed" });
    });
    made.addEventListener("message", ({ data }: MessageEvent<Told>) => {
      spoken.add(made);
      if (!("id" in data)) {
        onChange(data);
        return;
      }
      const asked = waiting.get(data.id);
      if (!asked) return;
      if ("isHere" in data) {
        asked.isHere = true;
        return;
      }
      waiting.delete(data.id);
      if ("value" in data) asked.resolve(data.value);
      else
        asked.reject(
          data.rejected === undefined
            ? new ProblemError(data.problem.code, data.problem)
            : new DOMException("The call was given up.", data.rejected),
        );
    });
    setTimeout(() => {
      if (worker === made && !spoken.has(made) && waiting.size > 0)
        say(
          new ProblemError("page.worker-silent", {
            received: `no word of the worker in ${wonderMilliseconds / 1000} s`,
            because: "slow",
          }).problem,
        );
    }, wonderMilliseconds);
    worker = made;
    return made;
  };
  return async <Answer>(call: WorkerCall, signal?: AbortSignal | null): Promise<Answer> => {
    // Given up before it began: while a body was read, or while a person was asked.
    signal?.throwIfAborted();
    const id = (last += 1);
    const giveUp = () => worker?.postMessage({ id, abort: true });
    signal?.addEventListener("abort", giveUp);
    const answering = new Promise<unknown>((resolve, reject) => {
      let triesLeft = 2;
      const ask = () => {
        const asked = worker ?? open();
        triesLeft -= 1;
        asked.postMessage({ id, call });
        // What it said while this page was busy or asleep is heard before it counts as silent.
        setTimeout(
          () => {
            setTimeout(() => {
              if (waiting.get(id)?.isHere === false) replace(asked, { received: "no word of the worker" });
            }, patienceMilliseconds);
          },
          silenceMilliseconds[spoken.has(asked) ? "later" : "first"],
        );
      };
      const askAgain = (why: Silence) => {
        if (triesLeft > 0) {
          ask();
          return;
        }
        waiting.delete(id);
        reject(
          new ProblemError("page.worker-silent", {
            ...why,
            received: `two workers in a row: ${why.received}`,
          }),
        );
      };
      waiting.set(id, { resolve, reject, askAgain, isHere: false });
      ask();
    });
    // A signal may be there for longer than any call.
    return answering.finally(() => signal?.removeEventListener("abort", giveUp)) as Promise<Answer>;
  };
}

/** An answer's body, which ends with the signal as it does in `fetch`: who was to send it on stops then. */
export function endingWith(body: FetchAnswer["body"], signal?: AbortSignal | null): FetchAnswer["body"] {
  if (!(body instanceof ReadableStream) || !signal) return body;
  return body.pipeThrough(new TransformStream<Uint8Array, Uint8Array>(), { signal });
}
