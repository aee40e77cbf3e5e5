import {
  createServer,
  IncomingMessage,
  request as ask,
  ServerResponse,
  type RequestListener,
  type Server,
} from "node:http";
import { once } from "node:events";
import querystring from "node:querystring";
import { Socket, type AddressInfo } from "node:net";
import { text } from "node:stream/consumers";
import { getRequestListener } from "@hono/node-server";
import express from "express";
// @ts-expect-error -- the types of Express 5 stand for both
import express4 from "express4";
import fastify from "fastify";
import fastify4 from "fastify4";
import { Hono } from "hono";
import Koa from "koa";
import bodyParser from "koa-bodyparser";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { guardForExpress } from "tenonsaw/express";
import { guardForFastify } from "tenonsaw/fastify";
import { guardForHono, type GuardEnv } from "tenonsaw/hono";
import { guardForKoa, type GuardState } from "tenonsaw/koa";
import { guardForNode } from "tenonsaw/node";
import { openGuard, type Guard } from "tenonsaw/guard";
import { createTools, thumbprint } from "tenonsaw/jose";
import { startPractice, type Practice } from "tenonsaw-practice";
import { signDpopProof } from "../packages/tenonsaw/src/provider/index.js";
import { createTestKey } from "./support/fake-world.js";

/**
 * The same small API: /api/tides takes tides.read, /api/query what its operation takes; /api/form tells what came in a form with
 * the token in it; all else is open.
 */
type Make = (guard: Guard) => RequestListener | Promise<RequestListener>;

const read = { scope: "tides.read" };
let asked = 0;
const needsOf = (body: unknown) => {
  asked += 1;
  return (body as { operation?: string } | undefined)?.operation === "remove"
    ? { role: "harbour-master" }
    : read;
};
/** What a handler finds of the form, but the token. */
const foundIn = (body: unknown) => ({ ...(body as object), access_token: undefined });

const asListener =
  (listener: ReturnType<typeof getRequestListener>): RequestListener =>
  (incoming, outgoing) =>
    void listener(incoming, outgoing);

const inExpress =
  (make: typeof express): Make =>
  (guard) => {
    const { middleware, takes } = guardForExpress(guard);
    const app = make();
    const inner = make.Router();
    app.use(middleware);
    inner.get("/tides", takes(read), (request, response) => void response.json(request.caller?.subject));
    inner.post(
      "/query",
      make.json(),
      takes((request: express.Request) => needsOf(request.body)),
      (request, response) => void response.json(request.caller?.subject),
    );
    inner.post(
      "/form",
      takes(read),
      make.urlencoded({ extended: true }),
      (request, response) => void response.json(foundIn(request.body)),
    );
    inner.post(
      "/parsed",
      make.urlencoded({ extended: true }),
      takes(read),
      (request, response) => void response.json(foundIn(request.body)),
    );
    app.use("/api", inner);
    return app;
  };

const inFastify =
  (make: typeof fastify): Make =>
  async (guard) => {
    const { plugin, takes } = guardForFastify(guard);
    const app = make();
    await app.register(plugin);
    app.get("/api/tides", { onRequest: takes(read) }, (request, reply) =>
      reply.send(JSON.stringify(request.caller?.subject)),
    );
    app.post("/api/query", { preHandler: takes((request) => needsOf(request.body)) }, (request, reply) =>
      reply.send(JSON.stringify(request.caller?.subject)),
    );
    app.addContentTypeParser(
      "application/x-www-form-urlencoded",
      { parseAs: "string" },
      (_request, body, done) => done(null, querystring.parse(body as string)),
    );
    app.post("/api/form", { onRequest: takes(read) }, (request, reply) => reply.send(foundIn(request.body)));
    app.post("/api/parsed", { preHandler: takes(read) }, (request, reply) =>
      reply.send(foundIn(request.body)),
    );
    await app.ready();
    return (incoming, outgoing) => app.server.emit("request", incoming, outgoing);
  };

const inKoa: Make = (guard) => {
  const { middleware, takes } = guardForKoa(guard);
  const app = new Koa<GuardState>();
  const routes: Record<string, Koa.Middleware<GuardState>[]> = {
    "/api/tides": [takes(read)],
    "/api/query": [bodyParser(), takes((ctx: Koa.Context) => needsOf(ctx.request.body))],
    "/api/form": [takes(read), bodyParser()],
    "/api/parsed": [bodyParser(), takes(read)],
  };
  app.use(middleware);
  app.use(async (ctx, next) => {
    const steps = routes[ctx.path] ?? [];
    const run = async (index: number): Promise<void> => {
      const step = steps[index];
      if (step) await step(ctx, () => run(index + 1));
      else if (/form|parsed/.test(ctx.path)) ctx.body = foundIn(ctx.request.body);
      else if (steps.length > 0) ctx.body = JSON.stringify(ctx.state.caller?.subject);
      else await next();
    };
    await run(0);
  });
  const callback = app.callback();
  return (incoming, outgoing) => void callback(incoming, outgoing);
};

const inHono: Make = (guard) => {
  const { middleware, takes } = guardForHono(guard);
  const app = new Hono<GuardEnv>();
  app.use(middleware);
  app.get("/api/tides", takes(read), (c) => c.json(c.get("caller").subject));
  app.post(
    "/api/query",
    takes(async (c) => needsOf(await c.req.json())),
    (c) => c.json(c.get("caller").subject),
  );
  for (const path of ["/api/form", "/api/parsed"])
    app.post(path, takes(read), async (c) => c.json(foundIn(await c.req.parseBody({ all: true }))));
  return asListener(getRequestListener(app.fetch));
};

const inNode: Make = (guard) => {
  const guarded = guardForNode(guard);
  return (incoming, outgoing) => {
    const answer = async () => {
      if (await guarded.answer(incoming, outgoing)) return;
      const isQuery = incoming.url === "/api/query";
      const body = async () => JSON.parse(await text(incoming)) as unknown;
      const caller = await guarded.admit(
        incoming,
        outgoing,
        isQuery ? async () => needsOf(await body()) : read,
      );
      if (!caller) return;
      const isForm = /form|parsed/.test(incoming.url ?? "");
      const found = isForm ? foundIn((incoming as { body?: unknown }).body) : caller.subject;
      outgoing.end(JSON.stringify(found));
    };
    // As an app of one's own has it: what is thrown is answered.
    answer().catch(() => outgoing.writeHead(500).end());
  };
};

const inRequest: Make = (guard) => {
  const tides = guard.protect((_, caller) => Response.json(caller.subject), read);
  const query = guard.protect(
    (_, caller) => Response.json(caller.subject),
    async (request) => needsOf(await request.clone().json()),
  );
  const form = guard.protect(async (request) => {
    const fields = new URLSearchParams(await request.text());
    const names = [...new Set(fields.keys())];
    return Response.json(
      foundIn(
        Object.fromEntries(
          names.map((name) => [name, fields.getAll(name)].flat(fields.getAll(name).length > 1 ? 0 : 1)),
        ),
      ),
    );
  }, read);
  const answer = (request: Request) => {
    const { pathname } = new URL(request.url);
    return pathname === "/api/query"
      ? query(request)
      : pathname === "/api/tides"
        ? tides(request)
        : form(request);
  };
  return asListener(getRequestListener(answer));
};

let practice: Practice;
beforeAll(async () => {
  practice = await startPractice({ lifetimes: { accessTokenSeconds: 600 } });
});
afterAll(() => practice.stop());

describe.each<[string, Make]>([
  ["node:http", inNode],
  ["Express 5", inExpress(express)],
  ["Express 4", inExpress(express4 as typeof express)],
  ["Fastify 5", inFastify(fastify)],
  ["Fastify 4", inFastify(fastify4 as unknown as typeof fastify)],
  ["Koa", inKoa],
  ["Hono", inHono],
  ["a function on Request", inRequest],
])("a guard in %s", (_, make) => {
  let server: Server;
  let origin: string;
  const page = "http://localhost:5173";

  beforeAll(async () => {
    server = createServer();
    await once(server.listen(0, "localhost"), "listening");
    origin = `http://localhost:${(server.address() as AddressInfo).port}`;
    const guard = await openGuard({
      issuer: practice.issuer,
      audience: practice.tidebook,
      resource: `${origin}/api`,
      pageOrigins: [page],
      formToken: true,
      certificateOf: () => {
        throw new TypeError("the app's own");
      },
      onProblem: () => undefined,
    });
    server.on("request", await make(guard));
  });
  afterAll(() => {
    server.closeAllConnections();
    server.close();
  });

  /** As it is on the wire: headers may be there twice. */
  const send = async (path: string, { method = "GET", headers = [] as string[][], body = "" } = {}) => {
    const asking = ask(origin + path, {
      method,
      headers: headers.flat(),
      setHost: false,
      agent: false,
    });
    asking.end(body);
    const [answer] = (await once(asking, "response")) as [IncomingMessage];
    return {
      status: answer.statusCode,
      headers: answer.headers,
      raw: answer.rawHeaders,
      text: await text(answer),
    };
  };
  const bearer = async (wish = {}) => ["authorization", `Bearer ${await practice.token(wish)}`];
  const host = () => ["host", new URL(origin).host];

  it("lets in who brings what the route takes, and answers everybody else by the book", async () => {
    const good = await send("/api/tides", { headers: [host(), await bearer(), ["origin", page]] });
    expect([good.status, good.text]).toEqual([200, '"qs-10231"']);
    expect(good.headers["access-control-allow-origin"]).toBe(page);
    const none = await send("/api/tides", { headers: [host(), ["origin", page]] });
    expect(none.status).toBe(401);
    expect(none.headers["www-authenticate"]).toMatch(/^Bearer realm=.*scope="tides.read", DPoP realm=/);
    expect(none.headers["content-type"]).toBe("application/problem+json");
    expect(none.headers["access-control-allow-origin"]).toBe(page);
    const little = await send("/api/tides", { headers: [host(), await bearer({ scope: "boats" })] });
    expect([little.status, JSON.parse(little.text)]).toEqual([
      403,
      { title: "The call is not allowed", status: 403, error: "insufficient_scope" },
    ]);
    const twice = await send("/api/tides", { headers: [host(), await bearer(), await bearer()] });
    expect(twice.status).toBe(400);
    const head = await send("/api/tides", { method: "HEAD", headers: [host()] });
    expect([head.status, head.text]).toEqual([401, ""]);
  });

  it.each(["/api/form", "/api/parsed"])(
    "takes the token from a form, and leaves the form to the handler: %s",
    async (path) => {
      const form = (fields: string) => {
        const body = `access_token=${encodeURIComponent(fields === "" ? "none" : token)}&${fields}`;
        const type = ["content-type", "application/x-www-form-urlencoded"];
        return send(path, {
          method: "POST",
          headers: [host(), type, ["content-length", String(body.length)]],
          body,
        });
      };
      const token = await practice.token({ scope: "tides.read" });
      const twice = await form("day=2&day=3&boat=Heron");
      expect([twice.status, JSON.parse(twice.text)]).toEqual([200, { day: ["2", "3"], boat: "Heron" }]);
      // Whatever a parser makes of it, it is a form.
      const nested = await form("a[b]=1&a[c]=2&a[c]=3");
      expect([nested.status, nested.text]).toEqual([200, expect.stringContaining("1")]);
      expect((await form("")).status).toBe(401);
    },
  );

  it("asks an app what a call takes, and by which certificate it came, for callers it knows alone; nothing hangs where that fails", async () => {
    const before = asked;
    const headers = [host(), ["content-type", "application/json"], ["content-length", "2"]];
    // A stranger drives no work of the app's.
    expect((await send("/api/query", { method: "POST", headers, body: "{}" })).status).toBe(401);
    expect(asked).toBe(before);
    const bound = await practice.token({ claims: { cnf: { "x5t#S256": "x" } } });
    const failed = await send("/api/tides", { headers: [host(), ["authorization", `Bearer ${bound}`]] });
    expect(failed.status).toBe(500);
  });

  it("judges a single route by its operation", async () => {
    const query = async (operation: string, wish = {}) => {
      const body = JSON.stringify({ operation });
      const headers = [
        host(),
        await bearer(wish),
        ["content-type", "application/json"],
        ["content-length", String(body.length)],
      ];
      return (await send("/api/query", { method: "POST", headers, body })).status;
    };
    expect([await query("read"), await query("remove"), await query("remove", { person: "ib" })]).toEqual([
      200, 403, 200,
    ]);
  });

  it("takes a proof for the address that callers see, and answers preflights and for its metadata", async () => {
    const owner = createTestKey("ES256", "owner");
    const tools = createTools();
    const token = await practice.token({
      claims: { cnf: { jkt: await thumbprint(tools, owner.publicJwk) } },
    });
    const prove = async () =>
      (
        await signDpopProof(tools, owner.privateJwk, {
          method: "GET",
          url: `${origin}/api/tides`,
          accessToken: token,
        })
      ).text;
    const call = async (proofs: string[]) =>
      (
        await send("/api/tides?day=2", {
          headers: [host(), ["authorization", `DPoP ${token}`], ...proofs.map((each) => ["dpop", each])],
        })
      ).status;
    const proof = await prove();
    expect([await call([proof]), await call([proof]), await call([await prove(), await prove()])]).toEqual([
      200, 401, 401,
    ]);
    const preflight = await send("/api/tides", {
      method: "OPTIONS",
      headers: [
        host(),
        ["origin", page],
        ["access-control-request-method", "GET"],
        ["access-control-request-headers", "authorization"],
      ],
    });
    expect([preflight.status, preflight.headers["access-control-allow-headers"]]).toEqual([
      204,
      "authorization",
    ]);
    const about = await send("/.well-known/oauth-protected-resource/api", { headers: [host()] });
    expect(JSON.parse(about.text)).toMatchObject({
      resource: `${origin}/api`,
      authorization_servers: [practice.issuer],
    });
  });
});

it("a guard in Fastify whose plugin is missing says so, in place of hanging on a form", async () => {
  const guard = await openGuard({
    issuer: practice.issuer,
    audience: practice.tidebook,
    formToken: true,
    onProblem: () => undefined,
  });
  const app = fastify();
  app.addContentTypeParser(
    "application/x-www-form-urlencoded",
    { parseAs: "string" },
    (_request, body, done) => done(null, body),
  );
  app.post("/api/form", { onRequest: guardForFastify(guard).takes(read) }, () => "in");
  const headers = { "content-type": "application/x-www-form-urlencoded" };
  const payload = `access_token=${await practice.token({ scope: "tides.read" })}`;
  const origin = await app.listen({ port: 0, host: "localhost" });
  const answer = await fetch(`${origin}/api/form`, { method: "POST", headers, body: payload });
  expect([answer.status, await answer.text()]).toEqual([
    500,
    expect.stringContaining("server.unfit-argument"),
  ]);
  await app.close();
});

it("a header that somebody before the guard has put there counts, and several of the caller's are several", async () => {
  const guard = await openGuard({
    issuer: practice.issuer,
    audience: practice.tidebook,
    onProblem: () => undefined,
  });
  // As with sign-in: what a framework is to call says so where it was called in its place.
  for (const called of [
    guardForExpress(guard).middleware,
    guardForExpress(guard).takes(read),
    guardForFastify(guard).plugin,
    guardForKoa(guard).middleware,
    guardForHono(guard).middleware,
  ])
    expect(called as () => unknown).toThrow("Leave the brackets out");
  const token = `Bearer ${await practice.token({ scope: "tides.read" })}`;
  const admitted = async (authorization: string, rawHeaders: string[]) => {
    const incoming = Object.assign(new IncomingMessage(new Socket()), {
      method: "GET",
      url: "/api/tides",
      rawHeaders,
      headers: { authorization },
    });
    return (await guardForNode(guard).admit(incoming, new ServerResponse(incoming), read))?.subject;
  };
  expect(await admitted(token, ["Cookie", "kept=1"])).toBe("qs-10231");
  expect(await admitted(token, ["Authorization", "Basic Zm9v"])).toBe("qs-10231");
  expect(await admitted(token, ["Authorization", token, "authorization", token])).toBe(undefined);
});
