// One server behind the guard and the same without it, in a process of its own.
import { createServer } from "node:http";
import { openGuard } from "tenonsaw/guard";
import { createTools, prepareKey, signJws } from "tenonsaw/jose";
import { guardForNode } from "tenonsaw/node";
import { newKeyPair } from "../scripts/key-pair.mjs";

const [issuer, audience] = ["https://id.quayside.example", "https://tidebook.example"];
const { privateKey, publicKey } = newKeyPair("ec", { namedCurve: "P-256" });
const jwk = { ...publicKey.export({ format: "jwk" }), kid: "bench", alg: "ES256" };
const guarded = guardForNode(await openGuard({ issuer, audience, keys: [jwk] }));
const tools = createTools();
const signing = await prepareKey(tools, privateKey.export({ format: "jwk" }), "ES256", "sign");
const now = Math.floor(Date.now() / 1000);
const make = (jti) =>
  signJws(
    tools,
    signing,
    {
      iss: issuer,
      aud: audience,
      sub: "qs-10231",
      client_id: "ferrywell",
      iat: now,
      exp: now + 3600,
      jti,
      scope: "tides.read",
    },
    { kid: "bench", typ: "at+jwt" },
  );
const tokens = [];
for (let index = 0; index < 10_000; index += 1) tokens.push(await make(`token-${index}`));

const answer = (outgoing) => {
  outgoing.setHeader("content-type", "application/json");
  outgoing.end('{"hello":"Maren Holt"}');
};
const server = createServer((incoming, outgoing) => {
  if (incoming.url === "/bare") {
    answer(outgoing);
    return;
  }
  void guarded
    .admit(incoming, outgoing, { scope: "tides.read" })
    .then((caller) => caller && answer(outgoing));
});
await new Promise((resolve) => server.listen(0, "localhost", resolve));
let cpu = process.cpuUsage();
process.on("message", (what) => {
  if (what === "memory") {
    globalThis.gc();
    process.send(process.memoryUsage().heapUsed / 2 ** 20);
    return;
  }
  const { user, system } = process.cpuUsage(cpu);
  cpu = process.cpuUsage();
  process.send(user + system);
});
process.send({ origin: `http://localhost:${server.address().port}`, token: tokens[0], tokens });
