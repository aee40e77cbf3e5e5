// Verification of a signature, of a whole ID token with every check, and of a token that comes again, each against the
// raw signature check with the same key; and the same with one key published and with a hundred.
import crypto from "node:crypto";

import { openProvider, validateIdToken } from "tenonsaw";
import {
  createTools,
  decodeJws,
  KeySet,
  prepareKey,
  signJws,
  VerifiedTokens,
  verifyJws,
} from "tenonsaw/jose";
import { createPlatform } from "tenonsaw/platform";
import { medianRatio, timeInTurn } from "./machine.mjs";
import { newKeyPair } from "../scripts/key-pair.mjs";

/** Each round times a batch of twenty, so that the clock itself does not count. */
const turns = { rounds: 300, batch: 20 };

const issuer = "https://id.quayside.example";
const algorithms = {
  RS256: {
    pair: () => newKeyPair("rsa", { modulusLength: 2048 }),
    hash: "sha256",
    options: {},
  },
  PS256: {
    pair: () => newKeyPair("rsa", { modulusLength: 2048 }),
    hash: "sha256",
    options: { padding: crypto.constants.RSA_PKCS1_PSS_PADDING, saltLength: 32 },
  },
  ES256: {
    pair: () => newKeyPair("ec", { namedCurve: "P-256" }),
    hash: "sha256",
    options: { dsaEncoding: "ieee-p1363" },
  },
  EdDSA: { pair: () => newKeyPair("ed25519"), hash: null, options: {} },
};

/** For each algorithm: raw time over that of the least there is to do, and over ours, of verifying, of validating an ID token, and of a token that comes again. */
export async function measureVerification() {
  const results = {};
  for (const [algorithm, { pair, hash, options }] of Object.entries(algorithms)) {
    const { privateKey, publicKey } = pair();
    const { provider, idToken, expected, jwk } = await prepare(algorithm, privateKey, publicKey);
    const { signingInput, signature } = decodeJws(idToken);
    const key = { key: publicKey, ...options };
    const tools = createTools();
    const keys = new KeySet(tools, { keys: [jwk], timeoutSeconds: 1 });
    const remembered = new VerifiedTokens(tools, keys, [algorithm]);
    const find = (header) => keys.find(header, algorithm);
    const tasks = {
      raw: () => crypto.verify(hash, signingInput, key, signature),
      least: () => decodeAndVerify(idToken, hash, key),
      verify: () => verifyJws(tools, idToken, [algorithm], find),
      idToken: () => validateIdToken(provider, idToken, expected),
      repeated: () => remembered.verify(idToken),
    };
    const { raw, ...ours } = await timeInTurn(tasks, turns);
    results[algorithm] = Object.fromEntries(
      Object.entries(ours).map(([name, times]) => [name, medianRatio(raw, times)]),
    );
  }
  return results;
}

/** The least that yields the claims: three parts decoded, one parsed, the raw check, and nothing else looked at. */
export function decodeAndVerify(token, hash, key) {
  const [first, second] = [token.indexOf("."), token.lastIndexOf(".")];
  const claims = JSON.parse(Buffer.from(token.slice(first + 1, second), "base64url").latin1Slice());
  const signature = Buffer.from(token.slice(second + 1), "base64url");
  return crypto.verify(hash, Buffer.from(token.slice(0, second), "latin1"), key, signature) && claims;
}

/** Time of verifying with a hundred published keys over that with one. */
export async function measureKeySet() {
  const tools = createTools();
  const { privateKey, publicKey } = algorithms.ES256.pair();
  const signing = await prepareKey(tools, privateKey.export({ format: "jwk" }), "ES256", "sign");
  const token = await signJws(tools, signing, { sub: "qs-10231" }, { kid: "bench" });
  const jwk = { ...publicKey.export({ format: "jwk" }), kid: "bench", alg: "ES256" };
  const others = Array.from({ length: 99 }, (_, index) => ({
    ...algorithms.ES256.pair().publicKey.export({ format: "jwk" }),
    kid: `other-${index}`,
    alg: "ES256",
  }));
  const verifyWith = (published) => {
    const keys = new KeySet(tools, { keys: published, timeoutSeconds: 1 });
    return () => verifyJws(tools, token, ["ES256"], (header) => keys.find(header, "ES256"));
  };
  const tasks = { one: verifyWith([jwk]), hundred: verifyWith([...others, jwk]) };
  const { one, hundred } = await timeInTurn(tasks, turns);
  return medianRatio(hundred, one);
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
  return { provider, jwk, idToken, expected: { nonce: claims.nonce, accessToken: "unused" } };
}
