// npm run fuzz: mutated inputs, by a seed, through everything that takes what strangers, providers and proxies send. Each
// ends in an accepted value or in a catalogued problem; anything else ends the run with the seed and the input that did it.
//   npm run fuzz -- --count 50000 --seed 7
//   npm run fuzz -- --minutes 5
import { parseArgs } from "node:util";
import { ProblemError } from "../packages/tenonsaw/dist/problem/index.js";
import {
  createTools,
  decodeBase64url,
  decodeJws,
  decryptJwe,
  encryptJwe,
  parseJsonObject,
} from "../packages/tenonsaw/dist/jose/index.js";
import { readForeignClaims } from "../packages/tenonsaw/dist/identity/foreign-claims.js";
import { readOAuth1Token, signatureBaseString } from "../packages/tenonsaw/dist/oauth1/index.js";
import { createPlatform, Secret } from "../packages/tenonsaw/dist/platform/index.js";
import { readClientKeys } from "../packages/tenonsaw/dist/provider/index.js";
import { createWordings } from "../packages/tenonsaw/dist/server/pages/texts.js";
import { readReturnPath } from "../packages/tenonsaw/dist/server/door/return-path.js";
import { readSettingsText } from "../packages/tenonsaw/dist/server/index.js";
import { readState } from "../packages/tenonsaw/dist/response/index.js";
import { growing, structured } from "./fuzz-targets.mjs";
import { createRandom } from "./random.mjs";

const { values } = parseArgs({
  options: { count: { type: "string" }, minutes: { type: "string" }, seed: { type: "string", default: "1" } },
});
const minutes = values.minutes === undefined ? Infinity : Number(values.minutes);
const seed = Number(values.seed);
// So many where neither is said; as many as there is time for where minutes are.
const count = Number(values.count ?? (minutes === Infinity ? 1_000_000 : Number.MAX_SAFE_INTEGER));
if (![count, seed].every(Number.isSafeInteger) || !(minutes > 0)) {
  console.error("--count and --seed take whole numbers, --minutes a number.");
  process.exit(2);
}
/** No input this size takes longer, by far, unless something grows faster than it should. */
const longestMilliseconds = 5000;

const base64url = (value) => Buffer.from(JSON.stringify(value)).toString("base64url");
const claims = { iss: "https://id.quayside.example", sub: "qs-10231", aud: ["ferrywell"], exp: 1.79e9 };
const token = `${base64url({ alg: "ES256", kid: "k", typ: "JWT" })}.${base64url(claims)}.${"A".repeat(86)}`;
const settings = JSON.stringify({
  origin: "https://ferrywell.example",
  providers: { quayside: { issuer: "https://id.quayside.example", clientId: "ferrywell" } },
});
// The same bytes each time: what is encrypted here is to be the same for the same seed.
const tools = createTools({
  platform: {
    ...createPlatform({ print: () => undefined }),
    randomBytes: (length) => new Uint8Array(length).fill(7),
  },
});
const oct = { kty: "oct", k: "AAECAwQFBgcICQoLDA0ODw" };
const encrypted = await encryptJwe(tools, oct, { alg: "A128KW", enc: "A128GCM" }, "plain");
const admitted = { alg: ["A128KW", "dir"], enc: ["A128GCM"] };
const wordingOf = createWordings({ da: { signIn: "Log ind" } });
const clientKey = { kty: "EC", crv: "P-256", x: "eA", y: "eQ", d: "ZA", kid: "k", alg: "ES256" };
const foreign = { sub: "s", _claim_names: { a: "x" }, _claim_sources: { x: { JWT: token } } };
const targets = [
  ["decryptJwe", (text) => decryptJwe(tools, text, admitted, () => oct), [encrypted, `${token}..`, "...."]],
  ["readClientKeys", (text) => readClientKeys(new Secret(text)), [JSON.stringify({ keys: [clientKey] })]],
  [
    "readForeignClaims",
    (text) => readForeignClaims({ tools, trustedClaimsIssuers: [] }, parseJsonObject(text, "claims")),
    [
      JSON.stringify(foreign),
      '{"_claim_names":{"__proto__":"x"},"_claim_sources":{"x":{"endpoint":"https://a.example"}}}',
    ],
  ],
  [
    "signatureBase",
    (text) => URL.canParse(text) && signatureBaseString({ method: "GET", url: text, form: [], protocol: [] }),
    ["https://archive.example/boxes?b5=%3D%253D&a3=a&c%40=&a2=r%20b", "http://a:80/%7e;x?a&a=+"],
  ],
  [
    "readOAuth1Token",
    (text) => readOAuth1Token({ declinedParameter: "denied" }, new URLSearchParams(text)),
    ["oauth_token=t&oauth_verifier=v", "denied=t"],
  ],
  [
    "wordingOf",
    (text) => wordingOf({ headers: { get: () => text } }),
    ["de-CH, de;q=0.9, en;q=0.5, *;q=0.1", "da"],
  ],
  ["decodeJws", decodeJws, [token, `${token}.x`, "..", "e30.e30."]],
  ["decodeBase64url", decodeBase64url, ["AQAB", "_-_-", ""]],
  [
    "parseJsonObject",
    (text) => parseJsonObject(text, "text"),
    [JSON.stringify(claims), '{"__proto__":{"polluted":1}}', '{"a":"\\u0061","b":[{"c":null}]}'],
  ],
  [
    "readReturnPath",
    (text) => readReturnPath("https://ferrywell.example", text),
    ["/tides?day=2#x", "//a", "/%2f"],
  ],
  [
    "readState",
    (text) => readState(new URLSearchParams(text)),
    ["code=c&state=s&iss=https%3A%2F%2Fid", "error=e&state=s"],
  ],
  ["readSettingsText", (text) => readSettingsText(text, "fuzz.json"), [settings, "{ // x\n}"]],
];
const spice = [
  '"',
  "\\",
  "{",
  "}",
  "[",
  ".",
  "=",
  "%",
  "\u0000",
  "\ud800",
  "é",
  "__proto__",
  "constructor",
  "1e999",
  "-",
  "/",
  "\n",
  "A".repeat(3000),
];

function mutate(random, text) {
  let mutated = text;
  for (let round = random(4); round >= 0; round -= 1) {
    const at = random(mutated.length + 1);
    const to = Math.min(mutated.length, at + random(8));
    const kind = random(4);
    if (kind === 0) mutated = mutated.slice(0, at) + mutated.slice(to);
    else if (kind === 1) mutated = mutated.slice(0, at) + spice[random(spice.length)] + mutated.slice(at);
    else if (kind === 2)
      mutated = mutated.slice(0, at) + String.fromCharCode(random(128)) + mutated.slice(to);
    else mutated = mutated.slice(0, to) + mutated.slice(at);
  }
  return mutated;
}

const random = createRandom(seed);
/** Each makes its own input: a mutated text, or something with more structure. */
const all = [
  ...targets.map(([name, parse, seeds]) => [name, () => mutate(random, seeds[random(seeds.length)]), parse]),
  ...structured.map(([name, run]) => [
    name,
    () => undefined,
    () => run(random, (text) => mutate(random, text)),
  ]),
];
const results = new Map(all.map(([name]) => [name, { accepted: 0, refused: 0 }]));
const endsAt = performance.now() + minutes * 60_000;
let done = 0;
const isTerminal = process.stderr.isTTY;
for (; done < count && performance.now() < endsAt; done += 1) {
  const [name, make, run] = all[done % all.length];
  const state = random.state();
  const input = make();
  const startedAt = performance.now();
  try {
    const result = await run(input);
    results.get(name)[result === "refused" ? "refused" : "accepted"] += 1;
  } catch (error) {
    if (!(error instanceof ProblemError)) stop(name, input ?? `state ${state}`, error);
    results.get(name).refused += 1;
  }
  if (performance.now() - startedAt > longestMilliseconds)
    stop(name, input ?? `state ${state}`, "it took too long");
  if ({}.polluted !== undefined)
    stop(name, input ?? `state ${state}`, "it changed what every object inherits");
  if (isTerminal && done % 10_000 === 0) process.stderr.write(`\r${done}`);
}
if (isTerminal) process.stderr.write("\r");
// Time is measured where there is time, and not in a test.
if (values.count === undefined) await measureGrowth();
console.log(`${done} inputs, seed ${seed}, 0 surprises`);
for (const [name, { accepted, refused }] of results) {
  console.log(`  ${name.padEnd(20)} ${accepted} accepted, ${refused} refused`);
}

/**
 * Eight times the text takes at most 24 times as long (64 would be quadratic), whatever it is made of: in one run, the best
 * of several, and only where it takes long enough to matter.
 */
async function measureGrowth() {
  const pieces = [
    '"',
    "\\",
    '\\"',
    "{",
    "[",
    '{"a":',
    ".",
    "=",
    "%",
    ",",
    ";",
    ", ",
    "a=",
    'a="',
    " ",
    "\n",
    "../",
    "e30.",
    "A",
  ];
  const secondsFor = async (run, text) => {
    let best = Infinity;
    // The first are not counted: what the engine compiles after them may take longer than what it interprets.
    for (let turn = -5; turn < 3; turn += 1) {
      const startedAt = performance.now();
      try {
        await run(text);
      } catch (error) {
        if (!(error instanceof ProblemError)) stop("growth", text.slice(0, 20), error);
      }
      if (turn >= 0) best = Math.min(best, performance.now() - startedAt);
    }
    return best;
  };
  for (const [name, run] of [...targets, ...growing]) {
    for (const piece of pieces) {
      // The largest that any budget lets in.
      const [eighth, whole] = [8192, 65_536].map((length) => piece.repeat(length / piece.length));
      let ratio = Infinity;
      for (let turn = 0; turn < 4 && ratio > 24; turn += 1) {
        const [first, second] = [await secondsFor(run, eighth), await secondsFor(run, whole)];
        ratio = Math.min(ratio, second > 25 ? second / first : 1);
      }
      if (ratio > 24)
        stop(
          name,
          `${JSON.stringify(piece)} again and again`,
          `${ratio.toFixed(1)} times the time for eight times the length`,
        );
    }
  }
}

function stop(name, input, reason) {
  console.error(`${name}, seed ${seed}: ${JSON.stringify(input)}`);
  console.error(reason);
  process.exit(1);
}
