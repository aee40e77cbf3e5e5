// An API, a bare streaming proxy before it, and the relay before it: the API in a process of its own, the other two together.
import { Agent, createServer, request as send } from "node:http";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { createSignIn } from "tenonsaw/server";
import { createPipedFetch, nodeListener } from "tenonsaw/node";
import { createPlatform } from "tenonsaw/platform";
import { createMemoryStore } from "tenonsaw/stores/memory";

const listen = async (server) => {
  await new Promise((resolve) => server.listen(0, "localhost", resolve));
  return server.address().port;
};
if (process.argv[2] === "api") {
  const small = JSON.stringify({ tides: Array.from({ length: 40 }, (_, at) => ({ at, heightMetres: 2.1 })) });
  const large = Buffer.alloc(1024 * 1024, 7);
  const api = createServer((incoming, outgoing) => {
    incoming.resume().on("end", () => {
      outgoing.setHeader("content-type", "application/json");
      outgoing.end(incoming.url.startsWith("/large") ? large : small);
    });
  });
  process.send({ port: await listen(api) });
} else {
  const api = Number(process.argv[3]);
  const practice = await startPractice({ lifetimes: { accessTokenSeconds: 3600 } });
  const server = createServer();
  const origin = `http://localhost:${await listen(server)}`;
  practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] });
  const signIn = await createSignIn({
    origin,
    keys: Buffer.alloc(32, 1).toString("base64url"),
    store: createMemoryStore(),
    ...(process.argv[4] === "piped" && { platform: createPlatform({ fetch: createPipedFetch() }) }),
    providers: {
      quayside: {
        issuer: practice.issuer,
        clientId: "ferrywell",
        clientSecret: defaultClient.clientSecret,
      },
    },
    apis: {
      tides: {
        provider: "quayside",
        origin: `http://localhost:${api}`,
        relay: ["/small", "/large", "POST /**"],
      },
    },
  });
  const relay = nodeListener(signIn, () => new Response());
  const agent = new Agent({ keepAlive: true });
  const bare = (incoming, outgoing) => {
    const path = incoming.url.slice("/bare".length);
    const headers = { ...incoming.headers, authorization: "Bearer a-token", host: `localhost:${api}` };
    const onward = send({ port: api, path, method: incoming.method, headers, agent }, (answer) => {
      outgoing.writeHead(answer.statusCode, answer.headers);
      answer.pipe(outgoing);
    });
    incoming.pipe(onward);
  };
  server.on("request", (incoming, outgoing) =>
    (incoming.url.startsWith("/bare/") ? bare : relay)(incoming, outgoing),
  );
  const visitor = createVisitor();
  await visitor.open(`${origin}/sign-in/to/quayside`);
  await visitor.press("Maren");
  await visitor.press("Yes, allow");
  const cookie = `tenonsaw-session=${visitor.cookies.get("localhost").get("tenonsaw-session")}`;
  process.on("message", () => {
    globalThis.gc?.();
    process.send({ bytes: process.memoryUsage().rss });
  });
  process.send({ origin, cookie });
}
