// ID-token verification, every check included, against the raw signature check with the same key.
import crypto from "node:crypto";
import { Bench } from "tinybench";
import { openProvider, validateIdToken } from "tenonsaw";
import { createTools, decodeJws, prepareKey, signJws } from "tenonsaw/jose";
import { createPlatform } from "tenonsaw/platform";
import { median, rounded } from "./machine.mjs";

/** Verifications a sample, so that the sampling itself does not count. */
const batch = 20;
const issuer = "https://id.quayside.example";
const algorithms = {
  RS256: {
    pair: () => crypto.generateKeyPairSync("rsa", { modulusLength: 2048 }),
    hash: "sha256",
    options: {},
  },
  PS256: {
    pair: () => crypto.generateKeyPairSync("rsa", { modulusLength: 2048 }),
    hash: "sha256",
    options: { padding: crypto.constants.RSA_PKCS1_PSS_PADDING, saltLength: 32 },
  },
  ES256: {
    pair: () => crypto.generateKeyPairSync("ec", { namedCurve: "P-256" }),
    hash: "sha256",
    options: { dsaEncoding: "ieee-p1363" },
  },
  EdDSA: { pair: () => crypto.generateKeyPairSync("ed25519"), hash: null, options: {} },
};

export async function measureVerification(rounds = 7) {
  const results = {};
  for (const [algorithm, { pair, hash, options }] of Object.entries(algorithms)) {
    const { privateKey, publicKey } = pair();
    const { provider, idToken, expected } = await prepare(algorithm, privateKey, publicKey);
    const { signingInput, signature } = decodeJws(idToken);
    const key = { key: publicKey, ...options };
    const ratios = [];
    for (let round = 0; round < rounds; round += 1) {
      const bench = new Bench({ time: 250, warmupTime: 100 });
      bench.add("raw", () => {
        for (let index = 0; index < batch; index += 1) crypto.verify(hash, signingInput, key, signature);
      });
      bench.add("ours", async () => {
        for (let index = 0; index < batch; index += 1) await validateIdToken(provider, idToken, expected);
      });
      await bench.run();
      const [raw, ours] = bench.tasks.map((task) => task.result.latency.p50);
      ratios.push(raw / ours);
    }
    results[algorithm] = rounded(median(ratios));
  }
  return results;
}

async function prepare(algorithm, privateKey, publicKey) {
  const jwk = { ...publicKey.export({ format: "jwk" }), kid: "bench", alg: algorithm, use: "sig" };
  const answers = {
    [`${issuer}/.well-known/openid-configuration`]: {
      issuer,
      authorization_endpoint: `${issuer}/authorize`,
      token_endpoint: `${issuer}/token`,
      jwks_uri: `${issuer}/keys`,
      id_token_signing_alg_values_supported: [algorithm],
    },
    [`${issuer}/keys`]: { keys: [jwk] },
  };
  const platform = createPlatform({ fetch: async (url) => Response.json(answers[url]) });
  const provider = await openProvider({ issuer, clientId: "ferrywell" }, { platform });
  const tools = createTools();
  const signingKey = await prepareKey(tools, privateKey.export({ format: "jwk" }), algorithm, "sign");
  const now = Math.floor(Date.now() / 1000);
  const claims = {
    iss: issuer,
    sub: "qs-10231",
    aud: "ferrywell",
    iat: now,
    exp: now + 3600,
    auth_time: now,
    nonce: "n".repeat(43),
    name: "Maren Holt",
    email: "maren.holt@ferrywell.example",
    email_verified: true,
  };
  const idToken = await signJws(tools, signingKey, claims, { kid: "bench", typ: "JWT" });
  return { provider, idToken, expected: { nonce: claims.nonce, accessToken: "unused" } };
}
