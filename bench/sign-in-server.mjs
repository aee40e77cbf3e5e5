// One of the two servers of sign-in.mjs: ours, or one that does the same HTTP and cryptography by hand. The same HTTP:
// each request has a deadline, each answer is read up to a limit, and no redirect is followed.
import { createCipheriv, createHash, createPublicKey, randomBytes, verify } from "node:crypto";
import { createServer } from "node:http";
import { getRequestListener } from "@hono/node-server";
import { createSignIn } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { createMemoryStore } from "tenonsaw/stores/memory";

const { KIND, ISSUER, PUBLIC_JWK } = process.env;
const server = createServer();
await new Promise((resolve) => server.listen(0, "localhost", resolve));
const origin = `http://localhost:${server.address().port}`;
server.on("request", KIND === "ours" ? await ourListener() : bareListener());

let cpu = process.cpuUsage();
process.on("message", () => {
  const { user, system } = process.cpuUsage(cpu);
  cpu = process.cpuUsage();
  process.send(user + system);
});
process.send(origin);

async function ourListener() {
  const providers = {
    quayside: { issuer: ISSUER, clientId: "ferrywell", scope: "openid profile offline_access" },
  };
  const keys = Buffer.alloc(32, 1).toString("base64url");
  const signIn = await createSignIn({ origin, keys, store: createMemoryStore(), providers });
  return nodeListener(signIn, () => new Response("ferrywell"));
}

function bareListener() {
  const key = createPublicKey({ key: JSON.parse(PUBLIC_JWK), format: "jwk" });
  const text = () => randomBytes(32).toString("base64url");
  const hash = (value) => createHash("sha256").update(value).digest("base64url");
  const seal = (value) => {
    const cipher = createCipheriv("aes-256-gcm", Buffer.alloc(32, 1), randomBytes(12)).setAAD(
      Buffer.from("place"),
    );
    return Buffer.concat([cipher.update(value), cipher.final(), cipher.getAuthTag()]).toString("base64url");
  };
  const redirect = (location, cookie) =>
    new Response(null, { status: 303, headers: { location, "set-cookie": cookie } });
  const begin = () => {
    const [state, nonce, verifier, browser] = [text(), text(), text(), text()];
    seal(JSON.stringify({ state, nonce, verifier, redirectUri: `${origin}/sign-in/from/quayside` }));
    const challenge = hash(verifier);
    const query = new URLSearchParams({ state, nonce, challenge, id: hash(state), browser: hash(browser) });
    return redirect(`${ISSUER}/authorize?${query}`, `browser=${browser}; Path=/; HttpOnly`);
  };
  const ask = async (path, init) => {
    const signal = AbortSignal.timeout(10_000);
    const response = await fetch(`${ISSUER}/${path}`, { ...init, redirect: "manual", signal });
    const decoder = new TextDecoder();
    let [text, length] = ["", 0];
    for await (const chunk of response.body) {
      length += chunk.byteLength;
      if (length > 1024 * 1024) throw new Error("too large");
      text += decoder.decode(chunk, { stream: true });
    }
    return JSON.parse(text + decoder.decode());
  };
  const finish = async (request) => {
    const { searchParams } = new URL(request.url);
    hash(searchParams.get("state"));
    hash(request.headers.get("cookie"));
    const body = new URLSearchParams({ grant_type: "authorization_code", code: searchParams.get("code") });
    const tokens = await ask("token", { method: "POST", body });
    const [head, payload, signature] = tokens.id_token.split(".");
    const holds = verify(
      "sha256",
      Buffer.from(`${head}.${payload}`),
      key,
      Buffer.from(signature, "base64url"),
    );
    if (!holds) throw new Error("signature");
    JSON.parse(Buffer.from(payload, "base64url"));
    hash(tokens.access_token);
    const headers = { authorization: `Bearer ${tokens.access_token}` };
    await ask("userinfo", { headers });
    for (const token of [tokens.access_token, tokens.refresh_token, tokens.id_token]) seal(token);
    const session = text();
    hash(session);
    return redirect(`${origin}/`, `session=${session}; Path=/; HttpOnly`);
  };
  const listener = getRequestListener(
    (request) => (new URL(request.url).pathname.includes("/to/") ? begin() : finish(request)),
    { overrideGlobalObjects: false },
  );
  return (incoming, outgoing) => void listener(incoming, outgoing);
}
