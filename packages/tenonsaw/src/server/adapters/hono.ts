import type { IncomingMessage } from "node:http";
import type { Context, Env, MiddlewareHandler } from "hono";
import { isProblem } from "../../problem/index.js";
import { notePeer } from "../door/public-origin.js";
import type { Needs } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import type { SignIn } from "../sign-in.js";

/** What the context holds: `new Hono<SignInEnv>()`. */
export interface SignInEnv extends Env {
  Variables: {
    /** Whoever is signed in in this browser. */
    session: Session | undefined;
  };
}

/** Sign-in for Hono, in every runtime that it runs in. */
export interface HonoSignIn<Providers extends string = string, Apis extends string = string> {
  /** Answers the sign-in routes, puts `session` into every other request's context, and tells problems: `app.use(middleware)`. */
  readonly middleware: MiddlewareHandler<SignInEnv>;
  /** What only somebody who is signed in gets, by `needs` after a recent proof or with more scope. */
  readonly protect: <E extends SignInEnv>(
    handler: (c: Context<E>, session: Session<Providers, Apis>) => Response | Promise<Response>,
    needs?: Needs<Providers>,
  ) => (c: Context<E>) => Promise<Response>;
}

/** Sign-in as Hono knows middleware. */
export function forHono<Providers extends string, Apis extends string>(
  signIn: SignIn<Providers, Apis>,
): HonoSignIn<Providers, Apis> {
  const requestOf = (c: Context) => {
    // In Node, Hono's server tells the connection; other runtimes stand behind a proxy, which the settings name.
    const { incoming } = (c.env ?? {}) as { readonly incoming?: IncomingMessage };
    notePeer(c.req.raw, incoming?.socket.remoteAddress);
    return c.req.raw;
  };
  return {
    async middleware(c, next) {
      const request = requestOf(c);
      const answer = await signIn.handle(request);
      if (answer) return answer;
      try {
        c.set("session", await signIn.session(request));
        await next();
      } catch (error) {
        if (!isProblem(error)) throw error;
        return signIn.explain(error, request);
      }
      // Hono keeps what a handler has thrown, and answers for it: a problem is told here.
      if (isProblem(c.error)) c.res = signIn.explain(c.error, request);
      return undefined;
    },
    protect: (handler, needs) => (c) =>
      signIn.protect((_request, session) => {
        c.set("session", session);
        return handler(c, session);
      }, needs)(requestOf(c)),
  };
}
