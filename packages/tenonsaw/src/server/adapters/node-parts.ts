import type { ServerResponse } from "node:http";
import { isProblem } from "../../problem/index.js";
import type { Needs } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import { toRequest, writeResponse, type Incoming } from "./bridge.js";
import { isSignIn, type Served } from "./served.js";

/** What an adapter for a framework on top of node:http is made of. */
export interface NodeParts {
  /** Answers one of the sign-in routes; false for every other address, whose body is then untouched. */
  answer(
    incoming: Incoming,
    outgoing: ServerResponse,
    at?: { readonly body?: unknown; readonly original?: unknown },
  ): Promise<boolean>;
  /** The session of the browser that sent a request; nothing at all where the app has its own sign-in. */
  session(incoming: Incoming, outgoing: ServerResponse): Promise<{ session?: Session | undefined }>;
  /** The session, where it is there and meets the needs; undefined where the answer has been given instead. */
  admit(incoming: Incoming, outgoing: ServerResponse, needs?: Needs): Promise<Session | undefined>;
  /** Tells a problem; false for every other error, which is the framework's. */
  explain(error: unknown, incoming: Incoming, outgoing: ServerResponse): Promise<boolean>;
}

export function createNodeParts(served: Served): NodeParts {
  const explain = async (error: unknown, incoming: Incoming, outgoing: ServerResponse) => {
    if (!isProblem(error) || outgoing.headersSent) return false;
    await writeResponse(outgoing, served.explain(error, requestOrNone(incoming, outgoing)));
    return true;
  };
  return {
    async answer(incoming, outgoing, at) {
      if (!served.answers(incoming.originalUrl ?? incoming.url ?? "/")) return false;
      const answer = await served.handle(toRequest(incoming, outgoing, { takeBody: true, ...at }));
      if (!answer) return false;
      await writeResponse(outgoing, answer);
      return true;
    },
    session: async (incoming, outgoing) =>
      isSignIn(served) ? { session: await served.session(toRequest(incoming, outgoing)) } : {},
    async admit(incoming, outgoing, needs) {
      let admitted: Session | undefined;
      if (!isSignIn(served))
        throw new TypeError("The app has its own sign-in: it protects its pages itself.");
      const page = served.protect((_request, session) => {
        admitted = session;
        return new Response();
      }, needs);
      const answer = await page(toRequest(incoming, outgoing));
      if (!admitted) await writeResponse(outgoing, answer);
      return admitted;
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
