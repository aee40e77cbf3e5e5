import { createServer, type RequestListener, type Server } from "node:http";
import { once } from "node:events";
import { connect, type AddressInfo } from "node:net";
import { getRequestListener } from "@hono/node-server";
import express from "express";
// @ts-expect-error -- the types of Express 5 stand for both
import express4 from "express4";
import fastify, { type FastifyInstance } from "fastify";
import fastify4 from "fastify4";
import { Hono, type MiddlewareHandler } from "hono";
import Koa from "koa";
import bodyParser from "koa-bodyparser";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { forExpress } from "tenonsaw/express";
import { forFastify } from "tenonsaw/fastify";
import { forHono, type SignInEnv } from "tenonsaw/hono";
import { forKoa, type SignInState } from "tenonsaw/koa";
import { nodeListener } from "tenonsaw/node";
import {
  createConnections,
  createSignIn,
  passOn,
  type Connections,
  type Session,
  type SignIn,
} from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { ledgerhouseAt } from "./support/ledgerhouse.js";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";

/** The same app in each framework: what it has to answer is said in the steps below. */
type Make = (signIn: SignIn, prefix: string) => RequestListener | Promise<RequestListener>;

const tidesOf = (session: Pick<Session, "fetch">) => session.fetch("tidebook", "/tides/today");
const chunks = async function* () {
  for (const part of ["ebb ", "and ", "flow"]) yield await Promise.resolve(part);
};
const webStream = () =>
  new ReadableStream({
    async start(controller) {
      for await (const part of chunks()) controller.enqueue(new TextEncoder().encode(part));
      controller.close();
    },
  });

const inExpress =
  (make: typeof express, parsesBefore: boolean): Make =>
  (signIn, prefix) => {
    const { middleware, protect, problems } = forExpress(signIn);
    const app = make();
    const inner = make.Router();
    if (parsesBefore) app.use(make.urlencoded({ extended: true }), make.json());
    inner.use(middleware);
    if (!parsesBefore) inner.use(make.urlencoded({ extended: false }));
    inner.get(
      "/",
      protect((request, response) => void response.end(`Hello ${request.session.person.name ?? ""}`)),
    );
    inner.get("/open", (request, response) => void response.json({ name: request.session?.person.name }));
    inner.post("/form", (request, response) => void response.json(request.body));
    inner.get(
      "/boom",
      protect(() => Promise.reject(new Error("boom"))),
    );
    inner.get("/problem", (request, response, next) => {
      request.session?.fetch("nothing", "/").then(() => response.end(), next);
    });
    inner.get(
      "/more",
      protect((_, response) => void response.end("more"), { scope: "email" }),
    );
    inner.get(
      "/passed",
      protect((request) => tidesOf(request.session).then(passOn)),
    );
    inner.get(
      "/as-it-came",
      protect((request) => tidesOf(request.session)),
    );
    inner.get("/stream", (_, response) => {
      void (async () => {
        for await (const part of chunks()) response.write(part);
        response.end();
      })();
    });
    app.use(prefix === "" ? "/" : prefix, inner);
    app.use(problems);
    app.use(((error, _request, response, _next) => {
      response.status(500).end(`caught ${(error as Error).message}`);
    }) as express.ErrorRequestHandler);
    return app;
  };

const inFastify =
  (make: typeof fastify): Make =>
  async (signIn, prefix) => {
    const { plugin, protect } = forFastify(signIn);
    const app = make({ forceCloseConnections: true });
    app.setErrorHandler((error, _request, reply) =>
      reply.status(500).send(`caught ${(error as Error).message}`),
    );
    app.addContentTypeParser("application/x-www-form-urlencoded", { parseAs: "string" }, (_, body, done) =>
      done(null, Object.fromEntries(new URLSearchParams(body.toString()))),
    );
    await app.register(plugin);
    await app.register(
      (inner: FastifyInstance, _options, done) => {
        inner.get(
          "/",
          protect((request) => `Hello ${request.session.person.name ?? ""}`),
        );
        inner.get("/open", (request) => Promise.resolve({ name: request.session?.person.name }));
        inner.post("/form", (request) => Promise.resolve(request.body));
        inner.get(
          "/boom",
          protect(() => Promise.reject(new Error("boom"))),
        );
        inner.get(
          "/problem",
          protect((request) => request.session.fetch("nothing", "/")),
        );
        inner.get(
          "/more",
          protect(() => "more", { scope: "email" }),
        );
        inner.get(
          "/passed",
          protect((request) => tidesOf(request.session).then(passOn)),
        );
        inner.get(
          "/as-it-came",
          protect((request) => tidesOf(request.session)),
        );
        inner.get("/stream", (_, reply) => {
          void (async () => {
            reply.hijack();
            for await (const part of chunks()) reply.raw.write(part);
            reply.raw.end();
          })();
        });
        done();
      },
      { prefix },
    );
    await app.ready();
    return (incoming, outgoing) => app.routing(incoming, outgoing);
  };

const inKoa =
  (parsesBefore: boolean): Make =>
  (signIn, prefix) => {
    const { middleware, protect } = forKoa(signIn);
    const app = new Koa<SignInState>();
    app.silent = true;
    app.use(async (ctx, next) => {
      try {
        await next();
      } catch (error) {
        ctx.status = 500;
        ctx.body = `caught ${(error as Error).message}`;
      }
    });
    if (parsesBefore) app.use(bodyParser());
    app.use(middleware);
    if (!parsesBefore) app.use(bodyParser());
    const pages: Record<string, (ctx: Koa.ParameterizedContext<SignInState>, next: Koa.Next) => unknown> = {
      "/": protect((ctx) => (ctx.body = `Hello ${ctx.state.session.person.name ?? ""}`)),
      "/open": (ctx) => (ctx.body = { name: ctx.state.session?.person.name }),
      "/form": (ctx) => (ctx.body = ctx.request.body),
      "/boom": protect(() => Promise.reject(new Error("boom"))),
      "/problem": (ctx) => ctx.state.session?.fetch("nothing", "/"),
      "/more": protect((ctx) => (ctx.body = "more"), { scope: "email" }),
      "/passed": protect((ctx) => tidesOf(ctx.state.session).then(passOn)),
      "/as-it-came": protect(async (ctx) => {
        ctx.body = await tidesOf(ctx.state.session);
      }),
      "/stream": async (ctx) => {
        const { Readable } = await import("node:stream");
        ctx.body = Readable.from(chunks());
      },
    };
    app.use(async (ctx, next) => pages[ctx.path.slice(prefix.length)]?.(ctx, next));
    const listener = app.callback();
    return (incoming, outgoing) => void listener(incoming, outgoing);
  };

const inHono: Make = (signIn, prefix) => {
  const { middleware, protect } = forHono(signIn);
  const app = new Hono<SignInEnv>();
  app.use(middleware);
  app.onError((error, c) => c.text(`caught ${error.message}`, 500));
  const inner = prefix === "" ? app : app.basePath(prefix);
  inner.get(
    "/",
    protect((c, session) => c.text(`Hello ${session.person.name ?? ""}`)),
  );
  inner.get("/open", (c) => c.json({ name: c.var.session?.person.name }));
  inner.post("/form", async (c) => c.json(await c.req.parseBody()));
  inner.get(
    "/boom",
    protect(() => Promise.reject(new Error("boom"))),
  );
  inner.get("/problem", async (c) => (await c.var.session?.fetch("nothing", "/")) ?? c.text(""));
  inner.get(
    "/more",
    protect((c) => c.text("more"), { scope: "email" }),
  );
  inner.get(
    "/passed",
    protect((_, session) => tidesOf(session).then(passOn)),
  );
  inner.get(
    "/as-it-came",
    protect((_, session) => tidesOf(session)),
  );
  inner.get("/stream", () => new Response(webStream()));
  const listener = getRequestListener(app.fetch, { overrideGlobalObjects: false });
  return (incoming, outgoing) => void listener(incoming, outgoing);
};

const inNode: Make = (signIn, prefix) => {
  type Page = (request: Request) => Response | Promise<Response>;
  const pages: Record<string, Page> = {
    "/": signIn.protect((_, session) => new Response(`Hello ${session.person.name ?? ""}`)),
    "/open": async (request) => Response.json({ name: (await signIn.session(request))?.person.name }),
    "/form": async (request) => Response.json(Object.fromEntries(new URLSearchParams(await request.text()))),
    "/boom": () => new Response("caught boom", { status: 500 }),
    "/problem": signIn.protect((_, session) => session.fetch("nothing", "/")),
    "/more": signIn.protect(() => new Response("more"), { scope: "email" }),
    "/passed": signIn.protect((_, session) => tidesOf(session).then(passOn)),
    "/as-it-came": signIn.protect((_, session) => tidesOf(session)),
    "/stream": () => new Response(webStream()),
  };
  return nodeListener(
    signIn,
    (request) =>
      pages[new URL(request.url).pathname.slice(prefix.length)]?.(request) ??
      new Response(null, { status: 404 }),
  );
};

describe.each<[string, string, Make]>([
  ["Express 5, bodies parsed before", "", inExpress(express, true)],
  ["Express 5, bodies parsed after, under a sub-path", "/club", inExpress(express, false)],
  ["Express 4, bodies parsed before, under a sub-path", "/club", inExpress(express4 as typeof express, true)],
  ["Fastify 5", "", inFastify(fastify)],
  ["Fastify 4, under a sub-path", "/club", inFastify(fastify4 as unknown as typeof fastify)],
  ["Koa, bodies parsed before", "", inKoa(true)],
  ["Koa, bodies parsed after, under a sub-path", "/club", inKoa(false)],
  ["Hono", "", inHono],
  ["plain Node, under a sub-path", "/club", inNode],
])("sign-in in %s", (_, prefix, make) => {
  let practice: Practice;
  let server: Server;
  let home: string;
  let visitor: Visitor;
  const json = { accept: "application/json" };
  beforeAll(async () => {
    practice = await startPractice({ algorithm: "ES256" });
    server = createServer();
    await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
    const origin = `http://localhost:${(server.address() as AddressInfo).port}`;
    home = origin + prefix;
    const signIn = await createSignIn({
      origin,
      basePath: `${prefix}/sign-in`,
      keys: Buffer.alloc(32, 7).toString("base64url"),
      store: createMemoryStore(),
      providers: {
        quayside: {
          issuer: practice.issuer,
          clientId: defaultClient.clientId,
          clientSecret: defaultClient.clientSecret ?? "",
          scope: "openid profile tides.read",
        },
      },
      apis: { tidebook: { provider: "quayside", origin: practice.tidebook } },
      development: true,
    });
    practice.register({
      ...defaultClient,
      redirectUris: [`${home}/sign-in/from/quayside`],
      postLogoutRedirectUris: [`${home}/sign-in/out/done`],
    });
    server.on("request", await make(signIn, prefix));
    visitor = createVisitor();
  });
  afterAll(async () => {
    server.closeAllConnections();
    await new Promise((resolve) => server.close(resolve));
    await practice.stop();
  });
  const fetchText = async (path: string, init?: RequestInit) => {
    const answer = await visitor.fetch(home + path, init);
    return [answer.status, await answer.text()] as const;
  };

  it("calls a request unreadable that is none, and goes on; nobody's absence stops it", async () => {
    const { port } = server.address() as AddressInfo;
    const say = (text: string) =>
      new Promise<string>((resolve) => {
        const socket = connect(port, "localhost", () => socket.write(text));
        socket.once("data", (data) => {
          resolve(data.toString().slice(0, 12));
          socket.destroy();
        });
      });
    // A host with more in it would make another address of the path.
    for (const host of [
      "a b:c",
      "localhost/admin?",
      "localhost/admin#",
      "somebody@localhost",
      "localhost\\admin",
    ]) {
      const none = `GET ${prefix}/open HTTP/1.1\r\nHost: ${host}\r\nAccept: application/json\r\n\r\n`;
      expect(await say(none), host).toBe("HTTP/1.1 400");
    }
    // Gone before its body has come, and before the answer has.
    for (const path of ["/sign-in/out", "/form", "/stream"]) {
      const head = `POST ${prefix}${path} HTTP/1.1\r\nHost: localhost\r\nContent-Length: 100\r\n`;
      const type = "Content-Type: application/x-www-form-urlencoded\r\n\r\nboat=";
      const socket = connect(port, "localhost", () => {
        socket.write(head + type, () => socket.destroy());
      });
      await once(socket, "close");
    }
    expect(await fetchText("/open")).toEqual([200, "{}"]);
  });

  it("asks who is not signed in, lets them in, and tells apart what is wrong", async () => {
    expect(await fetchText("/open")).toEqual([200, "{}"]);
    const refused = await visitor.fetch(`${home}/`, { headers: json });
    expect([refused.status, refused.headers.get("www-authenticate")]).toEqual([
      401,
      expect.stringContaining("SignIn realm="),
    ]);
    await visitor.open(`${home}/`, { accept: "text/html" });
    await visitor.press("Sign in with quayside");
    await visitor.press("Maren");
    const page = await visitor.press("Yes, allow");
    expect(page.text).toContain("Hello Maren");
    expect(JSON.parse((await fetchText("/open"))[1])).toMatchObject({
      name: expect.stringContaining("Maren") as string,
    });
    expect(await fetchText("/boom")).toEqual([500, "caught boom"]);
    const [status, text] = await fetchText("/problem");
    expect([status, text]).toEqual([500, expect.stringContaining("connection.api-unknown")]);
    expect(await fetchText("/stream")).toEqual([200, "ebb and flow"]);
    expect(await fetchText("/passed")).toEqual([200, expect.stringContaining("Ferrywell landing")]);
    expect(await fetchText("/as-it-came")).toEqual([
      500,
      expect.stringContaining("Pass it on: passOn(answer)"),
    ]);
    const body = new URLSearchParams({ boat: "Kittiwake" });
    expect(await fetchText("/form", { method: "POST", body })).toEqual([200, '{"boat":"Kittiwake"}']);
  });

  it("asks for more where a page needs more, and not for ever", async () => {
    const asked = await visitor.fetch(`${home}/more`, { headers: { accept: "text/html" } });
    expect([asked.status, asked.headers.get("location")]).toEqual([
      303,
      expect.stringMatching(/to\/quayside\?.*scope=email/),
    ]);
    practice.rehearse("scope-narrowed");
    await visitor.open(`${home}/more`, { accept: "text/html" });
    const refused = await visitor.press("Yes, allow");
    practice.rehearse();
    expect(refused.text).toContain("connection.scope-insufficient");
  });

  it("answers its own routes in full: HEAD, what is not there, methods, data, and bodies", async () => {
    const head = await visitor.fetch(`${home}/sign-in`, { method: "HEAD" });
    expect([head.status, await head.text()]).toEqual([200, ""]);
    expect((await fetchText("/sign-in/nowhere"))[0]).toBe(404);
    expect((await fetchText("/sign-in/out"))[0]).toBe(405);
    const offered = await visitor.fetch(`${home}/sign-in`, { headers: json });
    expect(await offered.json()).toEqual({
      providers: [
        {
          name: "quayside",
          title: "quayside",
          href: `${prefix}/sign-in/to/quayside?returnTo=${prefix === "" ? "%2F" : encodeURIComponent(prefix)}`,
        },
      ],
    });
    const leave = async (origin: string) => {
      const headers = { ...json, origin };
      const body = new URLSearchParams({ returnTo: "/open" });
      return visitor.fetch(`${home}/sign-in/out`, { method: "POST", headers, body });
    };
    expect((await leave("https://evil.example")).status).toBe(403);
    const left = await leave(new URL(home).origin);
    expect([left.status, await left.json()]).toEqual([
      200,
      { goTo: expect.stringContaining(practice.issuer) as string },
    ]);
    expect(await fetchText("/open")).toEqual([200, "{}"]);
  });
});

/** An app with a sign-in of its own, which knows its people by what its own middleware has put on the request. */
interface Member {
  readonly user?: string;
  session?: unknown;
}
type WithOwn = (connections: Connections) => RequestListener | Promise<RequestListener>;

const ownInExpress =
  (make: typeof express): WithOwn =>
  (connections) => {
    const { middleware, problems } = forExpress(connections);
    const app = make();
    app.use((request, _, next) => {
      Object.assign(request, { user: request.headers["x-member"], session: "the app's own" });
      next();
    });
    app.use(middleware);
    app.get("/own", (request, response) => void response.end((request as Member).session));
    app.get("/problem", (_request, response, next) => {
      connections.fetchFor("1", "ledger", "/api/company").then(() => response.end(), next);
    });
    app.use(problems);
    return app;
  };

const ownInFastify =
  (make: typeof fastify): WithOwn =>
  async (connections) => {
    const app = make();
    app.addHook("onRequest", (request, _, done) => {
      Object.assign(request, { user: request.headers["x-member"], session: "the app's own" });
      done();
    });
    await app.register(forFastify(connections).plugin);
    app.get("/own", (request) => Promise.resolve((request as Member).session));
    await app.ready();
    return (incoming, outgoing) => app.routing(incoming, outgoing);
  };

const ownInKoa: WithOwn = (connections) => {
  const app = new Koa();
  app.use((ctx, next) => {
    Object.assign(ctx.state, { user: ctx.headers["x-member"], session: "the app's own" });
    return next();
  });
  app.use(forKoa(connections).middleware);
  app.use(async (ctx) => {
    if (ctx.path === "/problem") await connections.fetchFor("1", "ledger", "/api/company");
    ctx.body = (ctx.state as Member).session;
  });
  const listener = app.callback();
  return (incoming, outgoing) => void listener(incoming, outgoing);
};

const ownInHono: WithOwn = (connections) => {
  const app = new Hono<{ Variables: Member }>();
  app.use((c, next) => {
    c.set("user", c.req.header("x-member"));
    c.set("session", "the app's own");
    return next();
  });
  app.use(forHono(connections).middleware);
  app.get("/own", (c) => c.text(c.get("session") as string));
  app.get("/problem", () => connections.fetchFor("1", "ledger", "/api/company"));
  const listener = getRequestListener(app.fetch, { overrideGlobalObjects: false });
  return (incoming, outgoing) => void listener(incoming, outgoing);
};

const ownInNode: WithOwn = (connections) => {
  const listener = nodeListener(connections, (request) =>
    new URL(request.url).pathname === "/own"
      ? new Response("the app's own")
      : connections.fetchFor("1", "ledger", "/api/company"),
  );
  return (incoming, outgoing) => {
    listener(Object.assign(incoming, { user: incoming.headers["x-member"] }), outgoing);
  };
};

it.each<[string, WithOwn, ((original: never) => unknown)?]>([
  ["Express 5", ownInExpress(express)],
  ["Express 4", ownInExpress(express4 as typeof express)],
  ["Fastify 5", ownInFastify(fastify)],
  ["Fastify 4", ownInFastify(fastify4 as unknown as typeof fastify)],
  ["Koa", ownInKoa, ({ state }: { state: Member }) => state.user],
  ["Hono", ownInHono, (c: { get: (name: string) => unknown }) => c.get("user")],
  ["plain Node", ownInNode],
])("connected accounts in %s are those of whom the app's own sign-in says", async (name, make, userOf) => {
  const practice = await startPractice({ algorithm: "ES256" });
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
  const origin = `http://localhost:${(server.address() as AddressInfo).port}`;
  const said: unknown[] = [];
  const connections = await createConnections({
    origin,
    keys: Buffer.alloc(32, 7).toString("base64url"),
    store: createMemoryStore(),
    personOf: (_, original) =>
      (userOf ? userOf(original as never) : (original as Member).user) as string | undefined,
    providers: { ledgerhouse: { ...ledgerhouseAt(practice.ledger), clientSecret: "only-for-tests" } },
    apis: { ledger: { provider: "ledgerhouse", origin: practice.ledger } },
    connections: { ledgerhouse: {} },
    onProblem: ({ error }) => said.push(error),
  });
  server.on("request", await make(connections));
  const ask = (path: string, member?: string, init: RequestInit = {}) => {
    const headers = {
      accept: "application/json",
      origin,
      ...(member !== undefined && { "x-member": member }),
    };
    return fetch(origin + path, { ...init, headers });
  };
  try {
    expect(await (await ask("/sign-in/accounts")).json()).toMatchObject({ signedIn: false });
    expect(await (await ask("/sign-in/accounts", "1")).json()).toMatchObject({
      signedIn: true,
      providers: [{ name: "ledgerhouse" }],
    });
    const begin = (member?: string) =>
      ask("/sign-in/connect/ledgerhouse", member, {
        method: "POST",
        body: new URLSearchParams({ returnTo: "/own" }),
      });
    expect((await begin()).status).toBe(401);
    expect(await (await begin("1")).json()).toEqual({
      goTo: expect.stringContaining(`${practice.ledger}/oauth/authorize`) as string,
    });
    expect(await (await ask("/own", "1")).text()).toBe("the app's own");
    if (name.startsWith("Fastify")) return;
    const told = await ask("/problem", "1");
    expect(await told.text()).toContain("connection.none");
  } finally {
    server.closeAllConnections();
    await new Promise((resolve) => server.close(resolve));
    await practice.stop();
  }
});

/** How often a page was reached, and what it has. */
let reached = 0;
const reach = (...held: readonly unknown[]) => {
  reached += 1;
  return held;
};
type Beside = (signIn: SignIn, as: string, otherFirst: boolean) => RequestListener | Promise<RequestListener>;
const inOrder = <Each>(otherFirst: boolean, other: Each, own: Each) =>
  otherFirst ? [other, own] : [own, other];

const besideInExpress =
  (make: typeof express): Beside =>
  (signIn, as, otherFirst) => {
    const { middleware, problems } = forExpress(signIn, { as });
    const other: express.RequestHandler = (request, _, next) => {
      (request as Member).session = "another's";
      next();
    };
    const app = make();
    for (const each of inOrder(otherFirst, other, middleware)) app.use(each);
    app.get(
      "/",
      (request, response) => void response.json(reach(as in request, (request as Member).session)),
    );
    app.use(problems);
    return app;
  };

const besideInFastify =
  (make: typeof fastify): Beside =>
  async (signIn, as, otherFirst) => {
    const app = make();
    const other = () =>
      app.addHook("onRequest", (request, _, done) => {
        (request as Member).session = "another's";
        done();
      });
    for (const each of inOrder<() => unknown>(otherFirst, other, () =>
      app.register(forFastify(signIn, { as }).plugin),
    ))
      await each();
    app.get("/", (request) => Promise.resolve(reach(as in request, (request as Member).session)));
    await app.ready();
    return (incoming, outgoing) => app.routing(incoming, outgoing);
  };

const besideInKoa: Beside = (signIn, as, otherFirst) => {
  const app = new Koa();
  app.silent = true;
  const other: Koa.Middleware = (ctx, next) => {
    ctx.state["session"] = "another's";
    return next();
  };
  for (const each of inOrder<Koa.Middleware>(otherFirst, other, forKoa(signIn, { as }).middleware))
    app.use(each);
  app.use((ctx) => {
    ctx.body = reach(as in ctx.state, ctx.state["session"]);
  });
  const listener = app.callback();
  return (incoming, outgoing) => void listener(incoming, outgoing);
};

const besideInHono: Beside = (signIn, as, otherFirst) => {
  const app = new Hono<{ Variables: Member & SignInEnv["Variables"] }>();
  const other: MiddlewareHandler = (c, next) => {
    c.set("session", "another's");
    return next();
  };
  for (const each of inOrder<MiddlewareHandler>(otherFirst, other, forHono(signIn, { as }).middleware))
    app.use(each);
  app.get("/", (c) => c.json(reach(as in c.var, c.get("session"))));
  const listener = getRequestListener(app.fetch, { overrideGlobalObjects: false });
  return (incoming, outgoing) => void listener(incoming, outgoing);
};

it.each<[string, Beside]>([
  ["Express 5", besideInExpress(express)],
  ["Express 4", besideInExpress(express4 as typeof express)],
  ["Fastify 5", besideInFastify(fastify)],
  ["Fastify 4", besideInFastify(fastify4 as unknown as typeof fastify)],
  ["Koa", besideInKoa],
  ["Hono", besideInHono],
])(
  "what another library keeps as its session is never taken for somebody who is signed in: %s",
  async (_, make) => {
    const signIn = await createSignIn({
      origin: "http://localhost:5173",
      keys: Buffer.alloc(32, 7).toString("base64url"),
      store: createMemoryStore(),
      providers: {
        quayside: { issuer: "https://id.quayside.example", clientId: "ferrywell", clientSecret: "s" },
      },
      onProblem: () => undefined,
    });
    for (const otherFirst of [true, false])
      for (const as of ["session", "member"]) {
        const server = createServer(await make(signIn, as, otherFirst));
        await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
        const answer = await fetch(`http://localhost:${(server.address() as AddressInfo).port}/`);
        const text = await answer.text();
        expect(reached).toBe(as === "member" ? 1 : 0);
        reached = 0;
        if (as === "member") expect([answer.status, JSON.parse(text)]).toEqual([200, [true, "another's"]]);
        else expect([answer.status, text]).toEqual([500, expect.stringContaining("server.session-taken")]);
        server.closeAllConnections();
        await new Promise((resolve) => server.close(resolve));
      }
  },
);

describe("what a framework is to call", () => {
  it("says so where it was called in the framework's place", async () => {
    const signIn = await createSignIn({
      origin: "http://localhost:5173",
      keys: Buffer.alloc(32, 7).toString("base64url"),
      store: createMemoryStore(),
      providers: { quayside: { issuer: "https://id.quayside.example", clientId: "ferrywell" } },
    });
    const page = () => undefined as never;
    const { middleware: inExpressApp, problems, protect: inExpressRoute } = forExpress(signIn);
    const [koa, hono] = [forKoa(signIn), forHono(signIn)];
    for (const called of [
      inExpressApp,
      problems,
      inExpressRoute(page),
      forFastify(signIn).plugin,
      koa.middleware,
      koa.protect(page),
      hono.middleware,
      hono.protect(page),
    ])
      expect(called as () => unknown).toThrow("Leave the brackets out");
  });
});
