import type { ServerResponse } from "node:http";
import { isProblem } from "../../problem/index.js";
import { requireHandler, requireOwnAnswer } from "../../trace/index.js";
import type { NeedsGiven } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import { toRequest, writeResponse, type Incoming } from "./bridge.js";
import { putSession } from "./put-session.js";
import { isSignIn, requireServed, type Served } from "./served.js";

/** What an adapter for a framework on top of node:http is made of. */
export interface NodeParts {
  /** Answers one of the sign-in routes; false for every other address, whose body is then untouched. */
  answer(
    incoming: Incoming,
    outgoing: ServerResponse,
    at?: { readonly body?: unknown; readonly original?: unknown },
  ): Promise<boolean>;
  /**
   * Puts the session of the browser that sent a request into `target`; nothing where the app has its own sign-in.
   *
   * @throws server.session-taken
   */
  placeSession(target: object, incoming: Incoming, outgoing: ServerResponse): Promise<void>;
  /**
   * For a page with these needs: whether the session is there and meets them, and is in `target` then; where not, the answer
   * has been given.
   *
   * @throws provider.settings-refused for needs that nobody can have, server.unfit-argument for a handler that is no function
   */
  admitting(
    handler: unknown,
    needs: NeedsGiven,
  ): (target: object, incoming: Incoming, outgoing: ServerResponse) => Promise<boolean>;
  /** Sends what a handler has given back, where that is a Response; anything else is the framework's. */
  send(given: unknown, outgoing: ServerResponse): Promise<boolean>;
  /** Tells a problem; false for every other error, which is the framework's. */
  explain(error: unknown, incoming: Incoming, outgoing: ServerResponse): Promise<boolean>;
}

export function createNodeParts(served: Served, as: string): NodeParts {
  requireServed(served);
  const explain = async (error: unknown, incoming: Incoming, outgoing: ServerResponse) => {
    if (!isProblem(error) || outgoing.headersSent) return false;
    await writeResponse(outgoing, served.explain(error, requestOrNone(incoming, outgoing)));
    return true;
  };
  return {
    async answer(incoming, outgoing, at) {
      if (!served.answers(incoming.originalUrl ?? incoming.url ?? "/")) return false;
      const request = toRequest(incoming, outgoing, { takeBody: true, ...at });
      const answer = await served.handle(request);
      if (!answer) return false;
      try {
        await writeResponse(outgoing, answer);
      } catch (error) {
        if (!outgoing.headersSent) throw error;
        // It has been answered, as far as it could be: nothing is left but to tell.
        served.explain(error, request);
      }
      return true;
    },
    async placeSession(target, incoming, outgoing) {
      if (isSignIn(served)) putSession(target, as, await served.session(toRequest(incoming, outgoing)));
    },
    admitting(handler, needs) {
      requireHandler(handler);
      if (!isSignIn(served))
        throw new TypeError("The app has its own sign-in: it protects its pages itself.");
      const admitted = new WeakMap<Request, Session>();
      const page = served.protect(
        (request, session) => {
          admitted.set(request, session);
          return new Response();
        },
        ...needs,
      );
      return async (target, incoming, outgoing) => {
        const request = toRequest(incoming, outgoing);
        const answer = await page(request);
        const session = admitted.get(request);
        if (session) putSession(target, as, session);
        else await writeResponse(outgoing, answer);
        return session !== undefined;
      };
    },
    async send(given, outgoing) {
      if (!(given instanceof Response) || outgoing.headersSent) return false;
      await writeResponse(outgoing, requireOwnAnswer(given));
      return true;
    },
    explain,
  };
}

function requestOrNone(incoming: Incoming, outgoing: ServerResponse): Request | undefined {
  try {
    return toRequest(incoming, outgoing);
  } catch {
    return undefined;
  }
}
