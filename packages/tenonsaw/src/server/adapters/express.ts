import type { ServerResponse } from "node:http";
import type { Caller, Guard, NeedsFor } from "../../guard/index.js";
import type { NeedsGiven } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import type { Connections } from "../create-connections.js";
import type { SignIn } from "../sign-in.js";
import type { Incoming } from "./bridge.js";
import { requireFramework } from "../../trace/index.js";
import { guardForNode } from "./guard-parts.js";
import { createNodeParts } from "./node-parts.js";
import type { SessionPlace } from "./put-session.js";
import type { Served } from "./served.js";

export type { SessionPlace } from "./put-session.js";

declare global {
  // eslint-disable-next-line @typescript-eslint/no-namespace -- Express's own way to say what a request has
  namespace Express {
    interface Request {
      /** Whoever is signed in in this browser. */
      session?: Session | undefined;
      /** Whom the guard let in. */
      caller?: Caller;
    }
  }
}

type Next = (error?: unknown) => void;

/** Sign-in for Express 4 and 5. */
export interface ExpressSignIn<
  Providers extends string = string,
  Apis extends string = string,
  As extends string = "session",
> {
  /** Answers the sign-in routes and puts `session` on every other request: `app.use(middleware)`. */
  readonly middleware: (request: Incoming, response: ServerResponse, next: Next) => void;
  /**
   * What only somebody who is signed in gets, by `needs` after a recent proof or with more scope. A Response that the handler
   * returns is sent. Problems that it throws become a page; every other error goes to the app's own error handler.
   */
  readonly protect: <Request extends Incoming, Response extends ServerResponse>(
    handler: (
      request: Request & Readonly<Record<As, Session<Providers, Apis>>>,
      response: Response,
      next: Next,
    ) => unknown,
    ...needs: NeedsGiven<Providers>
  ) => (request: Request, response: Response, next: Next) => void;
  /** Tells the problems of every other handler, and hands all other errors on: `app.use(problems)`, last. */
  readonly problems: (error: unknown, request: Incoming, response: ServerResponse, next: Next) => void;
}

/** Connected accounts for an Express app that has its own sign-in, which comes before it. */
export type ExpressConnections = Pick<ExpressSignIn, "middleware" | "problems">;

/** Sign-in as Express knows middleware. Body parsers may come before it or after it; so may a mount path. */
export function forExpress<Providers extends string, Apis extends string, As extends string = "session">(
  signIn: SignIn<Providers, Apis>,
  place?: SessionPlace<As>,
): ExpressSignIn<Providers, Apis, As>;
/** Connected accounts, after the middleware by which the app knows its people: `personOf(_, request)`. */
export function forExpress(connections: Connections): ExpressConnections;
export function forExpress(served: Served, { as = "session" }: SessionPlace = {}): ExpressSignIn {
  const parts = createNodeParts(served, as);
  const problems: ExpressSignIn["problems"] = (error, request, response, next) => {
    requireFramework(next, "app.use(problems)");
    parts.explain(error, request, response).then((isTold) => {
      if (!isTold) next(error);
    }, next);
  };
  return {
    middleware(request, response, next) {
      requireFramework(next, "app.use(middleware)");
      const work = async () => {
        if (await parts.answer(request, response)) return;
        await parts.placeSession(request, request, response);
        next();
      };
      work().catch((error: unknown) => problems(error, request, response, next));
    },
    protect(handler, ...needs) {
      const admit = parts.admitting(handler, needs);
      return (request, response, next) => {
        requireFramework(next, 'app.get("/tides", protect(handler))');
        const work = async () => {
          if (!(await admit(request, request, response))) return;
          await parts.send(await handler(request as Parameters<typeof handler>[0], response, next), response);
        };
        work().catch((error: unknown) => problems(error, request, response, next));
      };
    },
    problems,
  };
}

/** A guard for Express 4 and 5. */
export interface ExpressGuard {
  /** Answers what is the guard's own, and lets pages read every other answer: `app.use(guarded.middleware)`. */
  readonly middleware: (request: Incoming, response: ServerResponse, next: Next) => void;
  /** What only callers get who bring all this; `request.caller` says who it is: `app.get("/tides", guarded.takes({ scope: "tides.read" }), …)`. */
  readonly takes: <Request extends Incoming>(
    needs: NeedsFor<Request>,
  ) => (request: Request, response: ServerResponse, next: Next) => void;
}

/** A guard as Express knows middleware. */
export function guardForExpress(guard: Pick<Guard, "parts">): ExpressGuard {
  const guarded = guardForNode(guard);
  return {
    middleware: (request, response, next) => {
      requireFramework(next, "app.use(guarded.middleware)");
      guarded.answer(request, response).then((isAnswered) => {
        if (!isAnswered) next();
      }, next);
    },
    takes(needs) {
      const taken = guard.parts.needsOf(needs);
      return (request, response, next) => {
        requireFramework(next, 'app.get("/tides", guarded.takes({ scope: "tides.read" }), handler)');
        const work = async () => {
          const caller = await guarded.admit(request, response, taken(request));
          if (!caller) return;
          Object.assign(request, { caller });
          next();
        };
        work().catch(next);
      };
    },
  };
}
