// The guard: a token that comes again and one that is bound to a key, each against the raw signature checks of it, and one that
// comes for the first time, against the least that yields its claims; a server behind the guard against the same without it; and ten thousand tokens in rotation.
import { fork } from "node:child_process";
import crypto from "node:crypto";
import { once } from "node:events";
import { Agent, get } from "node:http";
import { fileURLToPath } from "node:url";
import { openGuard } from "tenonsaw/guard";
import { createTools, decodeJws, prepareKey, signJws, thumbprint } from "tenonsaw/jose";
import { decodeAndVerify } from "./verification.mjs";
import { median, medianRatio, rounded, timeInTurn } from "./machine.mjs";
import { newKeyPair } from "../scripts/key-pair.mjs";

const issuer = "https://id.quayside.example";
const audience = "https://tidebook.example";
const connections = 16;

export async function measureGuard() {
  return { ...(await measureJudging()), server: await measureServer(), rotation: await measureRotation() };
}

/** Raw time over ours. */
async function measureJudging() {
  const tools = createTools();
  const [issuerKey, ownerKey] = [pair(), pair()];
  const signing = await prepareKey(tools, issuerKey.private, "ES256", "sign");
  const proving = await prepareKey(tools, ownerKey.private, "ES256", "sign");
  const guard = await openGuard({
    issuer,
    audience,
    keys: [{ ...issuerKey.public, kid: "bench" }],
    onProblem: () => undefined,
  });
  const now = Math.floor(Date.now() / 1000);
  const make = (jti, more = {}) =>
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
        ...more,
      },
      { kid: "bench", typ: "at+jwt" },
    );
  const call = (authorization, dpop) => ({
    method: "GET",
    url: "/tides/today",
    header: (name) => (name === "authorization" ? authorization : name === "dpop" ? dpop : undefined),
    certificate: () => undefined,
    form: () => Promise.reject(new Error("no form")),
  });
  const needs = { scope: "tides.read" };
  const token = await make("again");
  const [verifying, verifyingProof] = [issuerKey, ownerKey].map((each) => ({
    key: crypto.createPublicKey({ key: each.public, format: "jwk" }),
    dsaEncoding: "ieee-p1363",
  }));
  const verify = ({ signingInput, signature }, key) => crypto.verify("sha256", signingInput, key, signature);
  const decoded = decodeJws(token);
  const again = call(`Bearer ${token}`);
  const { rounds, batch } = { rounds: 150, batch: 20 };
  // Rounds to warm up are as many again.
  const count = rounds * 2 * batch + batch;
  const fresh = [];
  const texts = [];
  for (let index = 0; index < count; index += 1) {
    texts.push(inOnePiece(await make(`fresh-${index}`)));
    fresh.push(call(inOnePiece(`Bearer ${texts[index]}`)));
  }
  let at = 0;
  const jkt = await thumbprint(tools, ownerKey.public);
  const proven = [];
  const signed = [];
  for (let index = 0; index < count; index += 1) {
    // Each with a token of its own: two signatures are checked.
    const each = await make(`bound-${index}`, { cnf: { jkt } });
    const ath = crypto.createHash("sha256").update(each).digest("base64url");
    // Near enough for as long as the machine may take until it is used.
    const iat = Math.floor(Date.now() / 1000) + 45;
    const claims = { jti: `proof-${index}`, htm: "GET", htu: `${audience}/tides/today`, iat, ath };
    const fitting = await signJws(tools, proving, claims, { typ: "dpop+jwt", jwk: ownerKey.public });
    proven.push(call(inOnePiece(`DPoP ${each}`), inOnePiece(fitting)));
    // The raw checks are of the same texts: one that comes again and again is checked faster.
    signed.push([decodeJws(each), decodeJws(fitting)]);
  }
  let next = 0;
  const verifyBoth = ([first, second]) => verify(first, verifying) && verify(second, verifyingProof);
  const admit = (each) => guard.parts.admit(each, needs);
  const times = await timeInTurn(
    {
      raw: () => verify(decoded, verifying),
      least: () => decodeAndVerify(texts[at++ % count], "sha256", verifying),
      repeated: () => admit(again),
      first: () => admit(fresh.pop()),
      twoRaw: () => verifyBoth(signed[next++ % count]),
      bound: () => admit(proven.pop()),
    },
    { rounds, batch },
  );
  const hostile = await measureHostile(guard, call, make);
  return {
    hostile,
    repeated: medianRatio(times.raw, times.repeated),
    first: medianRatio(times.least, times.first),
    bound: medianRatio(times.twoRaw, times.bound),
  };
}

/** As texts come from a connection: those that were put together here are still in parts. */
const inOnePiece = (text) => Buffer.from(text).latin1Slice();

/** What the dearest of some hostile tokens costs, in milliseconds a refusal. */
async function measureHostile(guard, call, make) {
  const encode = (value) =>
    Buffer.from(typeof value === "string" ? value : JSON.stringify(value)).toString("base64url");
  const head = encode({ alg: "ES256", kid: "bench", typ: "at+jwt" });
  const claims = (more) => encode({ iss: issuer, aud: audience, ...more });
  const tokens = {
    letters: "a".repeat(65_000),
    dots: `ey${".".repeat(65_000)}`,
    deep: `${head}.${encode(`{"iss":"${issuer}","x":${"[".repeat(24_000)}${"]".repeat(24_000)}}`)}.AA`,
    names: `${head}.${encode(Object.fromEntries([["iss", issuer], ...Array.from({ length: 4000 }, (_, index) => [`n${index}`, index])]))}.${"A".repeat(86)}`,
    scopes: await make("hostile", { scope: "s ".repeat(10_000).trim(), aud: "https://elsewhere.example" }),
    stranger: `${head}.${claims({ scope: "s ".repeat(10_000) })}.${"A".repeat(86)}`,
    unknownKey: `${encode({ alg: "ES256", kid: "x".repeat(1000) })}.${claims({})}.${"A".repeat(86)}`,
  };
  const refused = (token) =>
    guard.parts.admit(call(`Bearer ${token}`), "any-caller").then(
      () => {
        throw new Error("let in");
      },
      () => undefined,
    );
  const times = await timeInTurn(
    Object.fromEntries(Object.entries(tokens).map(([name, token]) => [name, () => refused(token)])),
    { rounds: 100, batch: 5 },
  );
  const each = Object.values(times).map((all) => median(all) / 1000);
  return rounded(Math.max(...each));
}

function pair() {
  const { privateKey, publicKey } = newKeyPair("ec", { namedCurve: "P-256" });
  return { private: privateKey.export({ format: "jwk" }), public: publicKey.export({ format: "jwk" }) };
}

/** Requests a second behind the guard over those without it, by the processor time of the server. */
async function measureServer(processes = 3) {
  const ratios = [];
  for (let index = 0; index < processes; index += 1)
    ratios.push(
      await withServer(async ({ turn, token }) => {
        const [bare, guarded] = [[], []];
        for (let round = -15; round < 30; round += 1) {
          const times = [await turn("/bare", () => token), await turn("/guarded", () => token)];
          if (round < 0) continue;
          bare.push(times[0].cpu);
          guarded.push(times[1].cpu);
        }
        return medianRatio(bare, guarded);
      }),
    );
  return { ratio: median(ratios), lowest: Math.min(...ratios), highest: Math.max(...ratios) };
}

/** With ten thousand tokens in rotation over one that comes again: the 99th percentile; and the memory that they take. */
async function measureRotation() {
  return withServer(async ({ turn, token, tokens, memory }) => {
    let next = 0;
    const one = () => token;
    const many = () => tokens[(next = (next + 1) % tokens.length)];
    // All of them once, then in rotation.
    for (let round = 0; round < 10; round += 1) await turn("/guarded", many);
    const before = await memory();
    const ratios = [];
    for (let round = 0; round < 20; round += 1) {
      const [single, rotating] = [await turn("/guarded", one), await turn("/guarded", many)];
      ratios.push(rotating.p99 / single.p99);
    }
    return { p99: rounded(median(ratios)), grownMegabytes: Math.round((await memory()) - before) };
  });
}

async function withServer(work, requests = 1000) {
  const server = fork(fileURLToPath(new URL("guard-server.mjs", import.meta.url)), {
    execArgv: ["--expose-gc"],
  });
  const [{ origin, token, tokens }] = await once(server, "message");
  const agent = new Agent({ keepAlive: true, maxSockets: connections });
  const ask = async (what) => {
    server.send(what);
    return (await once(server, "message"))[0];
  };
  const answered = (path, bearer) =>
    new Promise((resolve, reject) => {
      get(origin + path, { agent, headers: { authorization: `Bearer ${bearer}` } }, (response) => {
        if (response.statusCode !== 200) reject(new Error(`${path}: the answer was ${response.statusCode}`));
        response.on("end", resolve).resume();
      }).on("error", reject);
    });
  const turn = async (path, nextToken) => {
    await ask("cpu");
    const taken = [];
    const each = async () => {
      for (let index = 0; index < requests / connections; index += 1) {
        const startedAt = performance.now();
        await answered(path, nextToken());
        taken.push(performance.now() - startedAt);
      }
    };
    await Promise.all(Array.from({ length: connections }, each));
    taken.sort((left, right) => left - right);
    return { cpu: await ask("cpu"), p99: taken[Math.floor(taken.length * 0.99)] };
  };
  try {
    return await work({ turn, token, tokens, memory: () => ask("memory") });
  } finally {
    agent.destroy();
    server.kill("SIGTERM");
  }
}
