// A whole sign-in, both requests of it, against the sum of the cryptography inside it. Network and provider are
// stand-ins in this process, and their time is taken out.
import { createSignIn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createTools, prepareKey, signJws, publicPart } from "tenonsaw/jose";
import { createPlatform } from "tenonsaw/platform";
import { generateKeyPairSync, createHash } from "node:crypto";
import { median, rounded } from "./machine.mjs";

const issuer = "https://id.quayside.example";
const origin = "https://ferrywell.example";

export async function measureSignIn(rounds = 7, signInsPerRound = 150) {
  const clock = { crypto: 0, provider: 0 };
  const provider = await createStandIn();
  const platform = createPlatform();
  const signIn = await createSignIn({
    origin,
    keys: Buffer.alloc(32, 1).toString("base64url"),
    store: createMemoryStore(),
    providers: { quayside: { issuer, clientId: "ferrywell", scope: "openid profile offline_access" } },
    platform: {
      ...platform,
      crypto: timed(platform.crypto, clock),
      fetch: async (url, init) => {
        const startedAt = performance.now();
        const answer = await provider.answer(url, init);
        clock.provider += performance.now() - startedAt;
        return answer;
      },
    },
  });
  const run = async () => {
    const begun = await signIn.handle(new Request(`${origin}/sign-in/to/quayside`));
    const sent = new URL(begun.headers.get("location")).searchParams;
    provider.nonce = sent.get("nonce");
    const query = new URLSearchParams({ code: "code", state: sent.get("state") });
    const cookie = begun.headers.get("set-cookie").split(";")[0];
    const done = await signIn.handle(
      new Request(`${origin}/sign-in/from/quayside?${query}`, { headers: { cookie } }),
    );
    if (!done.headers.get("set-cookie")?.includes("session"))
      throw new Error("the sign-in did not go through");
  };
  for (let warm = 0; warm < 100; warm += 1) await run();
  const shares = [];
  const milliseconds = [];
  for (let round = 0; round < rounds; round += 1) {
    clock.crypto = clock.provider = 0;
    const startedAt = performance.now();
    for (let index = 0; index < signInsPerRound; index += 1) await run();
    const own = performance.now() - startedAt - clock.provider;
    shares.push(own / clock.crypto);
    milliseconds.push(own / signInsPerRound);
  }
  return { timesItsCrypto: rounded(median(shares)), millisecondsEach: rounded(median(milliseconds)) };
}

/** node:crypto answers at once, so the time inside a call is processor time. */
function timed(engine, clock) {
  const wrap =
    (name) =>
    (...parameters) => {
      const startedAt = performance.now();
      const result = engine[name](...parameters);
      clock.crypto += performance.now() - startedAt;
      return result;
    };
  const names = ["digestText", "importKey", "sign", "verify", "encryptGcm", "decryptGcm"];
  return { name: engine.name, ...Object.fromEntries(names.map((name) => [name, wrap(name)])) };
}

async function createStandIn() {
  const { privateKey } = generateKeyPairSync("rsa", { modulusLength: 2048 });
  const jwk = { ...privateKey.export({ format: "jwk" }), kid: "bench", alg: "RS256", use: "sig" };
  const tools = createTools();
  const key = await prepareKey(tools, jwk, "RS256", "sign");
  const access_token = "a".repeat(600);
  const at_hash = createHash("sha256").update(access_token).digest().subarray(0, 16).toString("base64url");
  const fixed = {
    [`${issuer}/.well-known/openid-configuration`]: {
      issuer,
      authorization_endpoint: `${issuer}/authorize`,
      token_endpoint: `${issuer}/token`,
      userinfo_endpoint: `${issuer}/userinfo`,
      jwks_uri: `${issuer}/keys`,
      id_token_signing_alg_values_supported: ["RS256"],
    },
    [`${issuer}/keys`]: { keys: [publicPart(jwk)] },
    [`${issuer}/userinfo`]: { sub: "qs-10231", name: "Maren Holt" },
  };
  const standIn = {
    nonce: "",
    async answer(url) {
      if (url !== `${issuer}/token`) return Response.json(fixed[url]);
      const now = Math.floor(Date.now() / 1000);
      const claims = {
        iss: issuer,
        sub: "qs-10231",
        aud: "ferrywell",
        iat: now,
        exp: now + 300,
        nonce: standIn.nonce,
        at_hash,
      };
      const id_token = await signJws(tools, key, claims, { kid: "bench" });
      return Response.json({
        access_token,
        token_type: "Bearer",
        expires_in: 3600,
        refresh_token: "r".repeat(43),
        id_token,
      });
    },
  };
  return standIn;
}
