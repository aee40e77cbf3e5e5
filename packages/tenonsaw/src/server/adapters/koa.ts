import type { ServerResponse } from "node:http";
import type { Caller, Guard, NeedsFor } from "../../guard/index.js";
import type { NeedsGiven } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import type { Connections } from "../create-connections.js";
import type { SignIn } from "../sign-in.js";
import type { Incoming } from "./bridge.js";
import { requireFramework, requireOwnAnswer } from "../../trace/index.js";
import { guardForNode } from "./guard-parts.js";
import { createNodeParts } from "./node-parts.js";
import type { SessionPlace } from "./put-session.js";
import type { Served } from "./served.js";

export type { SessionPlace } from "./put-session.js";

/** What this adapter uses of Koa's context. */
interface Context {
  readonly req: Incoming;
  readonly res: ServerResponse;
  readonly originalUrl: string;
  readonly request: object;
  state: object;
  respond?: boolean | undefined;
  readonly body?: unknown;
}
type Next = () => Promise<unknown>;

/** @throws server.not-a-response for an API's answer as it came, whose headers Koa has taken over already */
function requireOwnBody({ body, res }: Context): void {
  if (!(body instanceof Response) || res.headersSent) return;
  try {
    requireOwnAnswer(body);
  } catch (error) {
    for (const [name] of body.headers) res.removeHeader(name);
    throw error;
  }
}

/** What `ctx.state` holds: `new Koa<SignInState>()`. */
export interface SignInState {
  /** Whoever is signed in in this browser. */
  session?: Session | undefined;
}

/** Sign-in for Koa. */
export interface KoaSignIn<
  Providers extends string = string,
  Apis extends string = string,
  As extends string = "session",
> {
  /** Answers the sign-in routes and puts `session` into every other request's state: `app.use(middleware)`. */
  readonly middleware: (ctx: Context, next: Next) => Promise<void>;
  /** What only somebody who is signed in gets, by `needs` after a recent proof or with more scope. A Response that the handler returns is sent. */
  readonly protect: <Ctx extends Context>(
    handler: (ctx: Ctx & { state: Record<As, Session<Providers, Apis>> }, next: Next) => unknown,
    ...needs: NeedsGiven<Providers>
  ) => (ctx: Ctx, next: Next) => Promise<void>;
}

/** Connected accounts for a Koa app that has its own sign-in, which comes before it. */
export type KoaConnections = Pick<KoaSignIn, "middleware">;

/** Sign-in as Koa knows middleware. Body parsers may come before it or after it. Problems that come through become a page. */
export function forKoa<Providers extends string, Apis extends string, As extends string = "session">(
  signIn: SignIn<Providers, Apis>,
  place?: SessionPlace<As>,
): KoaSignIn<Providers, Apis, As>;
/** Connected accounts, after the middleware by which the app knows its people: `personOf(_, ctx)`. */
export function forKoa(connections: Connections): KoaConnections;
export function forKoa(served: Served, { as = "session" }: SessionPlace = {}): KoaSignIn {
  const parts = createNodeParts(served, as);
  const incomingOf = ({ req, originalUrl }: Context) => Object.assign(req, { originalUrl });
  /** Koa writes nothing more where the answer is being given. */
  const answerBy = async <Result>(ctx: Context, work: () => Promise<Result>): Promise<Result> => {
    ctx.respond = false;
    return work();
  };
  const leaveToKoa = (ctx: Context) => {
    ctx.respond = true;
  };
  const explained = async (ctx: Context, work: () => Promise<unknown>) => {
    try {
      await work();
    } catch (error) {
      const isTold = await answerBy(ctx, () => parts.explain(error, incomingOf(ctx), ctx.res));
      if (isTold) return;
      leaveToKoa(ctx);
      throw error;
    }
  };
  return {
    middleware(ctx, next) {
      requireFramework(next, "app.use(middleware)");
      return explained(ctx, async () => {
        const { body } = ctx.request as { readonly body?: unknown };
        const at = { body, original: ctx };
        if (await answerBy(ctx, () => parts.answer(incomingOf(ctx), ctx.res, at))) return;
        leaveToKoa(ctx);
        await parts.placeSession(ctx.state, incomingOf(ctx), ctx.res);
        await next();
        requireOwnBody(ctx);
      });
    },
    protect(handler, ...needs) {
      const admit = parts.admitting(handler, needs);
      return (ctx, next) => {
        requireFramework(next, "app.use(protect(handler))");
        return explained(ctx, async () => {
          if (!(await answerBy(ctx, () => admit(ctx.state, incomingOf(ctx), ctx.res)))) return;
          leaveToKoa(ctx);
          const given = await handler(ctx as Parameters<typeof handler>[0], next);
          if (given instanceof Response) await answerBy(ctx, () => parts.send(given, ctx.res));
        });
      };
    },
  };
}

/** What `ctx.state` holds behind a guard: `new Koa<GuardState>()`. */
export interface GuardState {
  /** Whom the guard let in. */
  caller?: Caller;
}

/** A guard for Koa. */
export interface KoaGuard {
  /** Answers what is the guard's own, and lets pages read every other answer: `app.use(guarded.middleware)`. */
  readonly middleware: (ctx: Context, next: Next) => Promise<void>;
  /** What only callers get who bring all this; `ctx.state.caller` says who it is. */
  readonly takes: <Ctx extends Context>(needs: NeedsFor<Ctx>) => (ctx: Ctx, next: Next) => Promise<void>;
}

/** A guard as Koa knows middleware. */
export function guardForKoa(guard: Pick<Guard, "parts">): KoaGuard {
  const guarded = guardForNode(guard);
  const incomingOf = ({ req, request, originalUrl }: Context) =>
    Object.assign(req, { originalUrl, body: (request as { readonly body?: unknown }).body });
  /** Koa goes on, or answers what was thrown, unless the answer has been given. */
  const past = async <Result>(ctx: Context, work: () => Promise<Result>): Promise<Result> => {
    ctx.respond = false;
    try {
      return await work();
    } finally {
      ctx.respond = !ctx.res.writableEnded;
    }
  };
  return {
    middleware(ctx, next) {
      requireFramework(next, "app.use(guarded.middleware)");
      const work = async () => {
        if (await past(ctx, () => guarded.answer(incomingOf(ctx), ctx.res))) return;
        await next();
      };
      return work();
    },
    takes(needs) {
      const taken = guard.parts.needsOf(needs);
      return async (ctx, next) => {
        const caller = await past(ctx, () => guarded.admit(incomingOf(ctx), ctx.res, taken(ctx)));
        if (!caller) return;
        Object.assign(ctx.state, { caller });
        // A form that the token was looked for in is read: parsers that come after find it there.
        Object.assign(ctx.request, { body: ctx.req.body });
        await next();
      };
    },
  };
}
