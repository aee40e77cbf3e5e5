import { fail } from "../problem/index.js";
import { inTime, type Tools } from "../trace/index.js";
import type { ReplayMarks } from "./settings-types.js";

const most = 200_000;

/**
 * Marks in this process's memory. Where there is no room for another one it refuses, the strict reading: a proof that is
 * forgotten could be used again.
 */
export function createReplayMemory(): ReplayMarks {
  const marks = new Map<string, number>();
  let sweptAt = -Infinity;
  return {
    async useMark(id, expiresAt, now) {
      const until = marks.get(id);
      if (until !== undefined && until > now) return Promise.resolve(false);
      // All of them are gone through for it, which must not be done for each request of whoever has filled them. A clock that
      // was set back counts as one that went on.
      if (Math.abs(now - sweptAt) >= (marks.size >= most ? 1 : 30)) {
        sweptAt = now;
        for (const [each, end] of marks) if (end <= now) marks.delete(each);
      }
      if (marks.size >= most)
        fail("guard.replays-full", { received: `${most} proofs that could still be used again` });
      marks.set(id, expiresAt);
      return Promise.resolve(true);
    },
  };
}

/** As long as a call of the library's own stores may take, and a little more: they have said so by then. */
const deadlineSeconds = 6;

/** A store whose answer somebody waits for: one that never comes is a refusal, not a call that hangs. */
export function promptMarks({ platform }: Tools, marks: ReplayMarks): ReplayMarks {
  return {
    useMark: (id, expiresAt, now) =>
      inTime(platform, deadlineSeconds, marks.useMark(id, expiresAt, now), () =>
        fail("store.unavailable", { received: `no answer within ${deadlineSeconds} s` }),
      ),
  };
}
