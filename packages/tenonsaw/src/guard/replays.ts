import { onceKnown, type Eventually } from "../platform/index.js";
import { fail } from "../problem/index.js";
import { inTime, type Tools } from "../trace/index.js";
import type { ReplayMarks } from "./settings-types.js";

/** Marks that somebody may wait for: those in memory answer at once. */
export interface PromptMarks {
  /** @param owner by whose key or secret it was signed */
  useMark(id: string, expiresAt: number, now: number, owner: string): Eventually<boolean>;
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
    useMark(id, expiresAt, now, owner) {
      const requests = usedBy.get(store) ?? new WeakMap<object, Map<string, Eventually<boolean>>>();
      usedBy.set(store, requests);
      const used = requests.get(request) ?? new Map<string, Eventually<boolean>>();
      requests.set(request, used);
      const known = used.get(id);
      if (known !== undefined) return known;
      const using = marks.useMark(id, expiresAt, now, owner);
      used.set(id, using);
      return using;
    },
  };
}

/** A clock that was put back by less than this, in seconds, has come into nothing that can be forgotten: marks last a minute longer. */
const smallStep = 5;
const mostMinutes = 10_000;

/**
 * The same marks by a clock that may be set: what has run out is forgotten, and a clock that is put back comes once more to when
 * it had not. What runs out in a minute in which something did that this process has let in is refused then, used or not.
 */
export function withoutSteps(marks: PromptMarks): PromptMarks {
  let latest = -Infinity;
  const minutes = new Set<number>();
  return {
    useMark(id, expiresAt, now, owner) {
      const minute = Math.floor(expiresAt / 60);
      const wasPutBack = now < latest - smallStep;
      if (wasPutBack && minute * 60 <= latest && minutes.has(minute)) return false;
      latest = Math.max(latest, now);
      return onceKnown(marks.useMark(id, expiresAt, now, owner), (isNew) => {
        if (isNew && !minutes.has(minute)) {
          minutes.add(minute);
          if (minutes.size > mostMinutes) minutes.delete(Math.min(...minutes));
        }
        return isNew;
      });
    },
  };
}

const [most, mostOfOne] = [200_000, 20_000];

/**
 * Marks in this process's memory. Where there is no room for another one it refuses, the strict reading: a proof that is
 * forgotten could be used again. Nobody takes the room of all others.
 */
export function createReplayMemory(): PromptMarks {
  const marks = new Map<string, { readonly until: number; readonly owner: string }>();
  const owners = new Map<string, number>();
  const forget = (id: string, owner: string) => {
    marks.delete(id);
    const left = (owners.get(owner) ?? 1) - 1;
    if (left > 0) owners.set(owner, left);
    else owners.delete(owner);
  };
  let sweptAt = -Infinity;
  return {
    useMark(id, expiresAt, now, owner) {
      const found = marks.get(id);
      if (found && found.until > now) return false;
      const isFull = () => marks.size >= most || (owners.get(owner) ?? 0) >= mostOfOne;
      // All of them are gone through for it, which must not be done for each request of whoever has filled them. A clock that
      // was set back counts as one that went on.
      if (Math.abs(now - sweptAt) >= (isFull() ? 1 : 30)) {
        sweptAt = now;
        for (const [each, mark] of marks) if (mark.until <= now) forget(each, mark.owner);
      }
      if (marks.size >= most)
        fail("guard.replays-full", { received: `${most} proofs that could still be used again` });
      if (isFull())
        fail("guard.replays-full", {
          received: `${mostOfOne} proofs by one key that could still be used again`,
          because: "one-caller",
        });
      if (found) forget(id, found.owner);
      marks.set(id, { until: expiresAt, owner });
      owners.set(owner, (owners.get(owner) ?? 0) + 1);
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
