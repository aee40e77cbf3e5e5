import { letGo } from "../platform/index.js";

/** What work comes to, unless the signal is given before that: somebody's own `fetch` may have no ear for it. */
export function heeding<Result>(signal: AbortSignal, work: Promise<Result>): Promise<Result> {
  return new Promise((resolve, reject) => {
    const end = () => reject(signal.reason as Error);
    if (signal.aborted) end();
    signal.addEventListener("abort", end);
    void work.then(resolve, reject).then(() => {
      signal.removeEventListener("abort", end);
      letGo(signal);
    });
  });
}
