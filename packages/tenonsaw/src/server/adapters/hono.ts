import type { IncomingMessage } from "node:http";
import type { Context, Env, MiddlewareHandler } from "hono";
import { isProblem } from "../../problem/index.js";
import { noteOriginal, notePeer } from "../door/public-origin.js";
import { callOf, isRefusal, type Caller, type Guard, type NeedsFor } from "../../guard/index.js";
import { createTools, requireFramework, requireHandler } from "../../trace/index.js";
import { certificateOf } from "./peer-certificate.js";
import type { NeedsGiven } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import type { Connections } from "../create-connections.js";
import type { SignIn } from "../sign-in.js";
import { notePlaced, requireOwn, sessionTaken, type SessionPlace } from "./put-session.js";
import { isSignIn, requireGuard, requireServed, type Served } from "./served.js";

export type { SessionPlace } from "./put-session.js";

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
    ...needs: NeedsGiven<Providers>
  ) => (c: Context<E>) => Promise<Response>;
}

/** Connected accounts for a Hono app that has its own sign-in, which comes before it. */
export interface HonoConnections {
  /** Answers the routes, and tells problems: `app.use(middleware)`. */
  readonly middleware: MiddlewareHandler;
}

/** Sign-in as Hono knows middleware. */
export function forHono<Providers extends string, Apis extends string>(
  signIn: SignIn<Providers, Apis>,
  place?: SessionPlace,
): HonoSignIn<Providers, Apis>;
/** Connected accounts, after the middleware by which the app knows its people: `personOf(_, c)`. */
export function forHono(connections: Connections): HonoConnections;
export function forHono(
  served: Served,
  { as = "session" }: SessionPlace = {},
): Partial<HonoSignIn> & Pick<HonoSignIn, "middleware"> {
  requireServed(served);
  const requestOf = (c: Context) => {
    // In Node, Hono's server tells the connection; other runtimes stand behind a proxy, which the settings name.
    const { incoming } = (c.env ?? {}) as { readonly incoming?: IncomingMessage };
    notePeer(c.req.raw, incoming?.socket.remoteAddress);
    noteOriginal(c.req.raw, c);
    return c.req.raw;
  };
  const name = as as "session";
  type Setter = (key: string, value: unknown) => void;
  const setters = new WeakMap<object, Setter>();
  const put = (c: Context<SignInEnv>, session: Session | undefined) => {
    requireOwn(c, as, c.get(name));
    const set = setters.get(c) ?? c.set;
    setters.set(c, set);
    set(as, session);
    notePlaced(c, session);
    const others: Setter = (key, value) => {
      if (key === as) throw sessionTaken(as);
      set(key, value);
    };
    Object.defineProperty(c, "set", { configurable: true, value: others });
  };
  const answerOrPlace: HonoSignIn["middleware"] = async (c, next) => {
    const request = requestOf(c);
    const answer = await served.handle(request);
    if (answer) return answer;
    try {
      if (isSignIn(served)) put(c, await served.session(request));
      await next();
    } catch (error) {
      if (!isProblem(error)) throw error;
      return served.explain(error, request);
    }
    // Hono keeps what a handler has thrown, and answers for it: a problem is told here.
    if (isProblem(c.error)) c.res = served.explain(c.error, request);
    return undefined;
  };
  return {
    middleware(c, next) {
      requireFramework(next, "app.use(middleware)");
      return answerOrPlace(c, next);
    },
    ...(isSignIn(served) && {
      protect(handler, ...needs) {
        requireHandler(handler);
        const contexts = new WeakMap<Request, Parameters<typeof handler>[0]>();
        const page = served.protect(
          (request, session) => {
            // eslint-disable-next-line @typescript-eslint/no-non-null-assertion -- put there before each is asked for
            const c = contexts.get(request)!;
            put(c as unknown as Context<SignInEnv>, session);
            return handler(c, session);
          },
          ...needs,
        );
        return (c) => {
          requireFramework(c, 'app.get("/tides", protect(handler))');
          const request = requestOf(c);
          contexts.set(request, c);
          return page(request);
        };
      },
    }),
  };
}

/** What the context holds behind a guard: `new Hono<GuardEnv>()`. */
export interface GuardEnv extends Env {
  Variables: {
    /** Whom the guard let in. */
    caller: Caller;
  };
}

/** A guard for Hono, in every runtime that it runs in. */
export interface HonoGuard {
  /** Answers what is the guard's own, and lets pages read every other answer: `app.use(guarded.middleware)`. */
  readonly middleware: MiddlewareHandler;
  /** What only callers get who bring all this; `c.get("caller")` says who it is. */
  readonly takes: <E extends GuardEnv>(needs: NeedsFor<Context<E>>) => MiddlewareHandler<E>;
}

/** A guard as Hono knows middleware. */
export function guardForHono(guard: Pick<Guard, "parts">): HonoGuard {
  const parts = requireGuard(guard);
  const tools = createTools();
  const incomingOf = (c: Context) => {
    const { incoming } = (c.env ?? {}) as { readonly incoming?: IncomingMessage };
    return { ...callOf(tools, c.req.raw), certificate: () => incoming && certificateOf(incoming.socket) };
  };
  const answerOrPass: MiddlewareHandler = async (c, next) => {
    const call = incomingOf(c);
    const answer = await parts.handle(call);
    if (answer) return answer;
    await next();
    for (const [name, value] of Object.entries(parts.headersFor(call)))
      if (name !== "vary") c.header(name, value);
      else if (!/\borigin\b/i.test(c.res.headers.get(name) ?? "")) c.header(name, value, { append: true });
    return undefined;
  };
  return {
    middleware(c, next) {
      requireFramework(next, "app.use(guarded.middleware)");
      return answerOrPass(c, next);
    },
    takes(needs) {
      const taken = parts.needsOf(needs);
      return async (c, next) => {
        try {
          c.set("caller", await parts.admit(incomingOf(c), taken(c)));
        } catch (error) {
          if (!isRefusal(error)) throw error;
          return error.response();
        }
        return next();
      };
    },
  };
}
