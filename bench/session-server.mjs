// One server with the session check and the same without it, in a process of its own.
import { createServer } from "node:http";
import { getRequestListener } from "@hono/node-server";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { createSignIn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";

const practice = await startPractice();
const server = createServer();
await new Promise((resolve) => server.listen(0, "localhost", resolve));
const origin = `http://localhost:${server.address().port}`;
practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] });
const signIn = await createSignIn({
  origin,
  keys: Buffer.alloc(32, 1).toString("base64url"),
  store: createMemoryStore(),
  providers: {
    quayside: { issuer: practice.issuer, clientId: "ferrywell", clientSecret: defaultClient.clientSecret },
  },
});
const answer = (name) => Response.json({ hello: name });
const listener = getRequestListener(
  async (request) => {
    if (request.url.endsWith("/bare")) return answer("Maren Holt");
    const own = await signIn.handle(request);
    if (own) return own;
    const session = await signIn.session(request);
    return session ? answer("Maren Holt") : signIn.ask(request);
  },
  { overrideGlobalObjects: false },
);
server.on("request", listener);

const visitor = createVisitor();
await visitor.open(`${origin}/sign-in/to/quayside`);
await visitor.press("Maren");
await visitor.press("Yes, allow");
const cookie = `tenonsaw-session=${visitor.cookies.get("localhost").get("tenonsaw-session")}`;
let cpu = process.cpuUsage();
process.on("message", () => {
  const { user, system } = process.cpuUsage(cpu);
  cpu = process.cpuUsage();
  process.send(user + system);
});
process.send({ origin, cookie });
