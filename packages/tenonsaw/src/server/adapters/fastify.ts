import { Readable } from "node:stream";
import type { FastifyPluginCallback, FastifyReply, FastifyRequest } from "fastify";
import type { Caller, Guard, NeedsFor } from "../../guard/index.js";
import type { NeedsGiven } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import type { Connections } from "../create-connections.js";
import type { SignIn } from "../sign-in.js";
import { fail } from "../../problem/index.js";
import { requireFramework } from "../../trace/index.js";
import { formTextOf, guardForNode } from "./guard-parts.js";
import { createNodeParts } from "./node-parts.js";
import type { SessionPlace } from "./put-session.js";
import type { Served } from "./served.js";

export type { SessionPlace } from "./put-session.js";

declare module "fastify" {
  interface FastifyRequest {
    /** Whoever is signed in in this browser. */
    session?: Session | undefined;
    /** Whom the guard let in. */
    caller?: Caller;
  }
}

/** Sign-in for Fastify 4 and 5. */
export interface FastifySignIn<
  Providers extends string = string,
  Apis extends string = string,
  As extends string = "session",
> {
  /** Answers the sign-in routes and puts `session` on every other request: `await app.register(plugin)`, before the routes. */
  readonly plugin: FastifyPluginCallback;
  /** What only somebody who is signed in gets, by `needs` after a recent proof or with more scope. A Response that the handler returns is sent. */
  readonly protect: <Request extends FastifyRequest, Reply extends FastifyReply>(
    handler: (request: Request & Readonly<Record<As, Session<Providers, Apis>>>, reply: Reply) => unknown,
    ...needs: NeedsGiven<Providers>
  ) => (request: Request, reply: Reply) => Promise<unknown>;
}

/** Connected accounts for a Fastify app that has its own sign-in, whose hooks come before it. */
export type FastifyConnections = Pick<FastifySignIn, "plugin">;

/** Sign-in as Fastify knows plugins. Problems that a handler throws become a page; other errors are the app's. */
export function forFastify<Providers extends string, Apis extends string, As extends string = "session">(
  signIn: SignIn<Providers, Apis>,
  place?: SessionPlace<As>,
): FastifySignIn<Providers, Apis, As>;
/** Connected accounts, after the `onRequest` hooks by which the app knows its people: `personOf(_, request)`. */
export function forFastify(connections: Connections): FastifyConnections;
export function forFastify(served: Served, { as = "session" }: SessionPlace = {}): FastifySignIn {
  const parts = createNodeParts(served, as);
  /** What is answered past Fastify keeps the headers that hooks have set. */
  const outgoingOf = (reply: FastifyReply) => {
    for (const [name, value] of Object.entries(reply.getHeaders()))
      if (value !== undefined && !reply.raw.headersSent) reply.raw.setHeader(name, value);
    return reply.raw;
  };
  const explain = async (error: unknown, request: FastifyRequest, reply: FastifyReply) => {
    const isTold = await parts.explain(error, request.raw, outgoingOf(reply));
    if (!isTold) throw error;
    return reply.hijack();
  };
  const plugin: FastifyPluginCallback = (app, _options, done) => {
    requireFramework(done, "await app.register(plugin)");
    // Before anything has read a body: a content type parser of the app's has not run yet.
    app.addHook("onRequest", async (request, reply) => {
      try {
        if (await parts.answer(request.raw, outgoingOf(reply), { original: request }))
          return await reply.hijack();
        await parts.placeSession(request, request.raw, reply.raw);
      } catch (error) {
        return await explain(error, request, reply);
      }
      return undefined;
    });
    done();
  };
  return {
    // What tells Fastify that the hook is for the whole app, and not for what is registered inside.
    plugin: Object.assign(plugin, { [Symbol.for("skip-override")]: true }),
    protect(handler, ...needs) {
      const admit = parts.admitting(handler, needs);
      return async (request, reply) => {
        try {
          if (!(await admit(request, request.raw, outgoingOf(reply)))) return await reply.hijack();
          const given = await handler(request as Parameters<typeof handler>[0], reply);
          return (await parts.send(given, outgoingOf(reply))) ? await reply.hijack() : given;
        } catch (error) {
          return await explain(error, request, reply);
        }
      };
    },
  };
}

/** A guard for Fastify 4 and 5. */
export interface FastifyGuard {
  /** Answers what is the guard's own, and lets pages read every other answer: `await app.register(guarded.plugin)`, before the routes. */
  readonly plugin: FastifyPluginCallback;
  /**
   * What only callers get who bring all this; `request.caller` says who it is. A hook of the route:
   * `app.get("/tides", { onRequest: guarded.takes({ scope: "tides.read" }) }, …)`; `preHandler` where the needs depend on the body.
   */
  readonly takes: (
    needs: NeedsFor<FastifyRequest>,
  ) => (request: FastifyRequest, reply: FastifyReply) => Promise<unknown>;
}

const pluginIn = Symbol("the guard's plugin");

/** A guard as Fastify knows plugins and hooks. */
export function guardForFastify(guard: Pick<Guard, "parts">): FastifyGuard {
  const guarded = guardForNode(guard);
  const plugin: FastifyPluginCallback = (app, _options, done) => {
    requireFramework(done, "await app.register(guarded.plugin)");
    app.addHook("onRequest", async (request, reply) =>
      (await guarded.answer(request.raw, reply.raw)) ? reply.hijack() : undefined,
    );
    // A form that a hook of a route has read is there once more for Fastify's own parsers.
    app.addHook("preParsing", async (request, _reply, payload) => {
      const text = formTextOf(request.raw);
      if (text === undefined) return payload;
      return Object.assign(Readable.from([text], { objectMode: false }), {
        receivedEncodedLength: text.byteLength,
      });
    });
    Object.assign(app, { [pluginIn]: true });
    done();
  };
  return {
    plugin: Object.assign(plugin, { [Symbol.for("skip-override")]: true }),
    takes(needs) {
      const taken = guard.parts.needsOf(needs);
      return async (request, reply) => {
        const incoming = Object.assign(request.raw, { body: request.body });
        const caller = await guarded.admit(incoming, reply.raw, taken(request));
        if (!caller) return reply.hijack();
        // Fastify would wait for ever for a body that has been read.
        if (formTextOf(request.raw) && !(pluginIn in request.server))
          fail("server.unfit-argument", {
            received: "a form that holds the token, and no plugin of the guard's",
            expected: "await app.register(guarded.plugin), before the routes",
          });
        request.caller = caller;
        return undefined;
      };
    },
  };
}
