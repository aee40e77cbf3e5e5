import type { FastifyPluginCallback, FastifyReply, FastifyRequest } from "fastify";
import type { Needs } from "../sessions/admit.js";
import type { Session } from "../connections/session-view.js";
import type { SignIn } from "../sign-in.js";
import { createNodeParts } from "./node-parts.js";

declare module "fastify" {
  interface FastifyRequest {
    /** Whoever is signed in in this browser. */
    session?: Session | undefined;
  }
}

/** Sign-in for Fastify 4 and 5. */
export interface FastifySignIn<Providers extends string = string, Apis extends string = string> {
  /** Answers the sign-in routes and puts `session` on every other request: `await app.register(plugin)`, before the routes. */
  readonly plugin: FastifyPluginCallback;
  /** What only somebody who is signed in gets, by `needs` after a recent proof or with more scope. */
  readonly protect: <Request extends FastifyRequest, Reply extends FastifyReply>(
    handler: (request: Request & { readonly session: Session<Providers, Apis> }, reply: Reply) => unknown,
    needs?: Needs<Providers>,
  ) => (request: Request, reply: Reply) => Promise<unknown>;
}

/** Sign-in as Fastify knows plugins. Problems that a handler throws become a page; other errors are the app's. */
export function forFastify<Providers extends string, Apis extends string>(
  signIn: SignIn<Providers, Apis>,
): FastifySignIn<Providers, Apis> {
  const parts = createNodeParts(signIn);
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
    // Before anything has read a body: a content type parser of the app's has not run yet.
    app.addHook("onRequest", async (request, reply) => {
      try {
        if (await parts.answer(request.raw, outgoingOf(reply))) return await reply.hijack();
        request.session = await parts.session(request.raw, reply.raw);
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
    protect: (handler, needs) => async (request, reply) => {
      try {
        const session = await parts.admit(request.raw, outgoingOf(reply), needs);
        if (!session) return await reply.hijack();
        Object.assign(request, { session });
        return await handler(request as Parameters<typeof handler>[0], reply);
      } catch (error) {
        return await explain(error, request, reply);
      }
    },
  };
}
