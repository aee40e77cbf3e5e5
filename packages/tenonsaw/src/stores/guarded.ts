import { fail, ProblemError } from "../problem/index.js";

/**
 * Does a piece of work at a server; whatever goes wrong there is one problem.
 *
 * @param where such as "Redis at host:port/0", without a password
 * @throws store.unavailable
 */
export function guarded<Result>(where: string, work: () => Promise<Result>): Promise<Result> {
  return work().catch((error: unknown) => {
    if (error instanceof ProblemError) throw error;
    // The drivers' own words name tables and hosts, not values.
    const reason = error instanceof Error ? error.message || error.name : "no reason given";
    fail("store.unavailable", { received: `${where}: ${reason}`, cause: error });
  });
}
