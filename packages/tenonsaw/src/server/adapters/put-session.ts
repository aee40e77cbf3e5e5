import { ProblemError, quoted } from "../../problem/index.js";

/** Where handlers find the session. */
export interface SessionPlace<As extends string = string> {
  /** Its name there. Default: `session`; another one where another library keeps something of its own by that name. */
  readonly as?: As;
}

/** What was put into a request, or what a framework has in its place. */
const placed = new WeakMap<object, unknown>();

/**
 * Puts the session where handlers look for it, and nobody else may put anything there: where another library has a
 * `session` for every visitor, `if (session)` would let everybody in.
 *
 * @throws server.session-taken
 */
export function putSession(target: object, name: string, session: unknown): void {
  requireOwn(target, name, (target as Readonly<Record<string, unknown>>)[name]);
  notePlaced(target, session);
  Object.defineProperty(target, name, {
    configurable: true,
    enumerable: true,
    get: () => session,
    set: () => {
      throw sessionTaken(name);
    },
  });
}

/** @throws server.session-taken where something else than what was put stands there */
export function requireOwn(target: object, name: string, there: unknown): void {
  if (there !== placed.get(target)) throw sessionTaken(name);
}

/** What stands there from now on. */
export function notePlaced(target: object, session: unknown): void {
  placed.set(target, session);
}

export function sessionTaken(name: string): ProblemError {
  return new ProblemError("server.session-taken", {
    received: `something of another library at ${quoted(name, 40)}`,
  });
}
