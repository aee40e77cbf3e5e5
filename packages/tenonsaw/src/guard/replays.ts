import type { Eventually } from "../platform/index.js";
import { fail } from "../problem/index.js";
import { inTime, type Tools } from "../trace/index.js";
import type { ReplayMarks } from "./settings-types.js";

/** Marks that somebody may wait for: those in memory answer at once. */
export interface PromptMarks {
  useMark(...mark: Parameters<ReplayMarks["useMark"]>): Eventually<boolean>;
}

/** What requests have used up, by the store that notes it: several guards before one handler look at one request. */
const usedBy = new WeakMap<object, WeakMap<object, Map<string, Eventually<boolean>>>>();

/**
 * The same marks for one request: what it has used up already is still its own, whichever guard on the same store asks next. Any other
 * request with the same proof is a replay.
 *
 * @param store what notes the marks, shared by guards or not
 * @param request the very object that stands for the request
 */
export function oncePerRequest(store: object, marks: PromptMarks, request: object): PromptMarks {
  return {
    useMark(id, expiresAt, now) {
      const requests = usedBy.get(store) ?? new WeakMap<object, Map<string, Eventually<boolean>>>();
      usedBy.set(store, requests);
      const used = requests.get(request) ?? new Map<string, Eventually<boolean>>();
      requests.set(request, used);
      const known = used.get(id);
      if (known !== undefined) return known;
      const using = marks.useMark(id, expiresAt, now);
      used.set(id, using);
      return using;
    },
  };
}

const most = 200_000;

/**
 * Marks in this process's memory. Where there is no room for another one it refuses, the strict reading: a proof that is
 * forgotten could be used again.
 */
export function createReplayMemory(): PromptMarks {
  const marks = new Map<string, number>();
  let sweptAt = -Infinity;
  return {
    useMark(id, expiresAt, now) {
      const until = marks.get(id);
      if (until !== undefined && until > now) return false;
      // All of them are gone through for it, which must not be done for each request of whoever has filled them. A clock that
      // was set back counts as one that went on.
      if (Math.abs(now - sweptAt) >= (marks.size >= most ? 1 : 30)) {
        sweptAt = now;
        for (const [each, end] of marks) if (end <= now) marks.delete(each);
      }
      if (marks.size >= most)
        fail("guard.replays-full", { received: `${most} proofs that could still be used again` });
      marks.set(id, expiresAt);
      return true;
    },
  };
}

/** As long as a call of the library's own stores may take, and a little more: they have said so by then. */
const deadlineSeconds = 6;

/** A store whose answer somebody waits for: one that never comes is a refusal, not a call that hangs. */
export function promptMarks({ platform }: Tools, marks: ReplayMarks): PromptMarks {
  return {
    useMark: (id, expiresAt, now) =>
      inTime(platform, deadlineSeconds, marks.useMark(id, expiresAt, now), () =>
        fail("store.unavailable", { received: `no answer within ${deadlineSeconds} s` }),
      ),
  };
}
