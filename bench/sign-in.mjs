// A whole sign-in over HTTP, both requests of it, against a server that does the same HTTP and the same cryptography and
// nothing else. Each runs in a process of its own; what is compared is their processor time.
import { createHash } from "node:crypto";
import { fork } from "node:child_process";
import { createServer } from "node:http";
import { fileURLToPath } from "node:url";
import { createTools, prepareKey, publicPart, signJws } from "tenonsaw/jose";
import { median, medianRatio, rounded } from "./machine.mjs";
import { newKeyPair } from "../scripts/key-pair.mjs";

export async function measureSignIn(rounds = 25, signInsPerRound = 40) {
  const provider = await startProvider();
  const ours = await startServer("ours", provider);
  const bare = await startServer("bare", provider);
  const run = async (server, count) => {
    for (let index = 0; index < count; index += 1) await signIn(server.origin, provider);
  };
  const spent = { ours: [], bare: [] };
  for (const server of [ours, bare]) await run(server, 250);
  for (let round = 0; round < rounds; round += 1) {
    for (const server of [ours, bare]) {
      await server.ask("cpu");
      await run(server, signInsPerRound);
      spent[server.kind].push((await server.ask("cpu")) / 1000 / signInsPerRound);
    }
  }
  for (const server of [ours, bare]) server.stop();
  provider.stop();
  return {
    timesHttpAndCrypto: medianRatio(spent.ours, spent.bare),
    millisecondsEach: rounded(median(spent.ours)),
  };
}

async function signIn(origin, provider) {
  const begun = await fetch(`${origin}/sign-in/to/quayside`, { redirect: "manual" });
  const sent = new URL(begun.headers.get("location")).searchParams;
  provider.setNonce(sent.get("nonce"));
  const query = new URLSearchParams({ code: "code", state: sent.get("state") });
  const cookie = begun.headers.get("set-cookie").split(";")[0];
  const done = await fetch(`${origin}/sign-in/from/quayside?${query}`, {
    redirect: "manual",
    headers: { cookie },
  });
  if (done.status !== 303) throw new Error(`the sign-in did not go through: ${await done.text()}`);
}

async function startServer(kind, { issuer, publicJwk }) {
  const child = fork(fileURLToPath(new URL("sign-in-server.mjs", import.meta.url)), {
    env: { ...process.env, KIND: kind, ISSUER: issuer, PUBLIC_JWK: JSON.stringify(publicJwk) },
  });
  const next = () => new Promise((resolve) => child.once("message", resolve));
  const origin = await next();
  return {
    kind,
    origin,
    ask(what) {
      child.send(what);
      return next();
    },
    stop: () => child.kill(),
  };
}

/** A provider in this process: its time counts for nobody. */
async function startProvider() {
  const { privateKey } = newKeyPair("rsa", { modulusLength: 2048 });
  const jwk = { ...privateKey.export({ format: "jwk" }), kid: "bench", alg: "RS256", use: "sig" };
  const tools = createTools();
  const key = await prepareKey(tools, jwk, "RS256", "sign");
  const access_token = "a".repeat(600);
  const at_hash = createHash("sha256").update(access_token).digest().subarray(0, 16).toString("base64url");
  let [issuer, nonce] = ["", ""];
  const answers = {
    "/.well-known/openid-configuration": () => ({
      issuer,
      authorization_endpoint: `${issuer}/authorize`,
      token_endpoint: `${issuer}/token`,
      userinfo_endpoint: `${issuer}/userinfo`,
      jwks_uri: `${issuer}/keys`,
      id_token_signing_alg_values_supported: ["RS256"],
    }),
    "/keys": () => ({ keys: [publicPart(jwk)] }),
    "/userinfo": () => ({ sub: "qs-10231", name: "Maren Holt" }),
    "/token": async () => {
      const now = Math.floor(Date.now() / 1000);
      const claims = {
        iss: issuer,
        sub: "qs-10231",
        aud: "ferrywell",
        iat: now,
        exp: now + 300,
        nonce,
        at_hash,
      };
      const id_token = await signJws(tools, key, claims, { kid: "bench" });
      return {
        access_token,
        token_type: "Bearer",
        expires_in: 3600,
        refresh_token: "r".repeat(43),
        id_token,
      };
    },
  };
  const server = createServer(async (request, response) => {
    response.setHeader("content-type", "application/json");
    response.end(JSON.stringify(await answers[request.url]?.()));
  });
  await new Promise((resolve) => server.listen(0, "localhost", resolve));
  issuer = `http://localhost:${server.address().port}`;
  return {
    issuer,
    publicJwk: publicPart(jwk),
    setNonce: (value) => void (nonce = value),
    stop() {
      server.closeAllConnections();
      server.close();
    },
  };
}
