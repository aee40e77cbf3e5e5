// npm run fuzz: a million mutated inputs, by a seed, through the parsers that take what strangers send. Each input ends
// in an accepted value or in a catalogued problem; anything else ends the run with the seed and the input that did it.
//   npm run fuzz -- --count 50000 --seed 7
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
import { createWordings } from "../packages/tenonsaw/dist/server/texts.js";
import { readReturnPath } from "../packages/tenonsaw/dist/server/return-path.js";
import { readSettingsText } from "../packages/tenonsaw/dist/server/index.js";
import { readState } from "../packages/tenonsaw/dist/response/index.js";

const { values } = parseArgs({
  options: { count: { type: "string", default: "1000000" }, seed: { type: "string", default: "1" } },
});
const [count, seed] = [Number(values.count), Number(values.seed)];
if (![count, seed].every(Number.isSafeInteger)) {
  console.error("--count and --seed take whole numbers.");
  process.exit(2);
}
/** No input this size takes longer, by far, unless something grows faster than it should. */
const longestMilliseconds = 1000;

const base64url = (value) => Buffer.from(JSON.stringify(value)).toString("base64url");
const claims = { iss: "https://id.quayside.example", sub: "qs-10231", aud: ["ferrywell"], exp: 1.79e9 };
const token = `${base64url({ alg: "ES256", kid: "k", typ: "JWT" })}.${base64url(claims)}.${"A".repeat(86)}`;
const settings = JSON.stringify({
  origin: "https://ferrywell.example",
  providers: { quayside: { issuer: "https://id.quayside.example", clientId: "ferrywell" } },
});
// The same bytes each time: what is encrypted here is to be the same for the same seed.
const tools = createTools({
  platform: { ...createPlatform(), randomBytes: (length) => new Uint8Array(length).fill(7) },
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

/** A small generator with a seed (mulberry32), so that a run can be repeated. */
function createRandom(start) {
  let state = start >>> 0;
  return (below) => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) % below;
  };
}

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
const results = new Map(targets.map(([name]) => [name, { accepted: 0, refused: 0 }]));
const isTerminal = process.stderr.isTTY;
for (let index = 0; index < count; index += 1) {
  const [name, parse, seeds] = targets[index % targets.length];
  const input = mutate(random, seeds[random(seeds.length)]);
  const startedAt = performance.now();
  try {
    const result = parse(input);
    if (result instanceof Promise) await result;
    results.get(name).accepted += 1;
  } catch (error) {
    if (!(error instanceof ProblemError)) stop(name, input, error);
    results.get(name).refused += 1;
  }
  if (performance.now() - startedAt > longestMilliseconds) stop(name, input, "it took too long");
  if ({}.polluted !== undefined) stop(name, input, "it changed what every object inherits");
  if (isTerminal && index % 10_000 === 0) process.stderr.write(`\r${index} of ${count}`);
}
if (isTerminal) process.stderr.write("\r");
console.log(`${count} inputs, seed ${seed}`);
for (const [name, { accepted, refused }] of results) {
  console.log(`  ${name.padEnd(18)} ${accepted} accepted, ${refused} refused`);
}

function stop(name, input, reason) {
  console.error(`${name}, seed ${seed}: ${JSON.stringify(input)}`);
  console.error(reason);
  process.exit(1);
}
