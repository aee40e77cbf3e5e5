// npm run plant: mistakes that nobody has chosen, drawn by a seed. Something in settings, in what a provider sends or in a call of
// an API is spoilt, and what is said of it has to name it. What is let through is listed with --show: whether a reader would have
// wanted to be told is for a reader.
//   npm run plant -- --count 500 --seed 7
//   npm run plant -- --area provider --show
import { parseArgs } from "node:util";
import { outcomeOf, places } from "./plant-places.mjs";
import { createRandom } from "./random.mjs";

const { values } = parseArgs({
  options: {
    count: { type: "string", default: "1000" },
    seed: { type: "string", default: "1" },
    area: { type: "string" },
    show: { type: "boolean", default: false },
  },
});
const [count, seed] = [Number(values.count), Number(values.seed)];
if (
  ![count, seed].every(Number.isSafeInteger) ||
  !(values.area === undefined || Object.hasOwn(places, values.area))
) {
  console.error(`--count and --seed take whole numbers, --area one of ${Object.keys(places).join(", ")}.`);
  process.exit(2);
}

const texts = (make) => (value) => (typeof value === "string" ? make(value) : undefined);
/** Ways to spoil a member: another value for it, or undefined where that cannot be. */
const spoilt = {
  null: () => null,
  empty: () => "",
  "a number": (value) => (typeof value === "number" ? value * 1000 : 5),
  negative: (value) => (typeof value === "number" ? -value : undefined),
  "an object": () => ({ a: 1 }),
  "an empty list": () => [],
  "true or false": (value) => value !== true,
  "in a list": (value) => (Array.isArray(value) ? undefined : [value]),
  "a text": (value) => (typeof value === "string" ? undefined : String(value)),
  "a space behind": texts((value) => `${value} `),
  "in quotes": texts((value) => `"${value}"`),
  "a placeholder": texts(() => "<your-value>"),
  "a variable": texts(() => "${VALUE}"),
  "other letters": texts((value) =>
    value === value.toUpperCase() ? value.toLowerCase() : value.toUpperCase(),
  ),
  "a slash behind": texts((value) => `${value}/`),
  "cut short": texts((value) => value.slice(0, -1)),
};

/** Words by which a member is known to people, where a problem does not use its name. */
const known = {
  acrValues: /acr/,
  azp: /another client/,
  claims: /has another format/,
  at_hash: /belong together/,
  id_token_signing_alg_values_supported: /algorithm/,
  id_token: /id token|compact form|part of a token/,
  jwks_uri: /key set/,
  kid: /key id/,
  nonce: /another sign-in/,
  pushed_authorization_request_endpoint: /pushed/,
  refresh_token: /refresh token/,
  token_endpoint: /token endpoint|token request/,
  token_type: /of an unknown type/,
  userinfo_endpoint: /userinfo/,
};

/** Every member there is, by its path. */
const pathsIn = (value, path = []) =>
  Object.entries(typeof value === "object" && value !== null ? value : {}).flatMap(([name, member]) => [
    [...path, name],
    ...pathsIn(member, [...path, name]),
  ]);

const misspell = (name) => `${name.slice(0, -2)}${name.slice(-1)}`;
const names = (said, name) =>
  [name, name.replaceAll("_", " ")].some((each) => said.toLowerCase().includes(each.toLowerCase())) ||
  known[name]?.test(said.toLowerCase()) === true;

const random = createRandom(seed);
const pick = (list) => list[random(list.length)];
const areas = values.area === undefined ? Object.keys(places) : [values.area];
const usual = Object.fromEntries(
  await Promise.all(areas.map(async (area) => [area, await outcomeOf(places[area][1], places[area][0]())])),
);
for (const [area, { shown, ...rest }] of Object.entries(usual))
  if (shown === undefined) throw new TypeError(`unspoilt, ${area} comes to nothing: ${JSON.stringify(rest)}`);

const tally = Object.fromEntries(areas.map((area) => [area, { named: 0, passed: 0 }]));
const missed = [];
for (let drawn = 0; drawn < count;) {
  const area = pick(areas);
  const [make, run] = places[area];
  const documents = make();
  const path = pick(pathsIn(documents).filter((each) => area === "settings" || each.length > 1));
  const [holder, name] = [path.slice(0, -1).reduce((part, each) => part[each], documents), path.at(-1)];
  const way = pick([...Object.keys(spoilt), "misspelt", "left out"]);
  const value = holder[name];
  if (way === "misspelt" || way === "left out") {
    if (Array.isArray(holder) || (way === "misspelt" && name.length < 2)) continue;
    delete holder[name];
    if (way === "misspelt") holder[misspell(name)] = value;
  } else {
    const made = spoilt[way](value);
    if (made === undefined) continue;
    holder[name] = made;
  }
  drawn += 1;
  const { shown, refused, foreign } = await outcomeOf(run, documents);
  const own = /^\d+$/.test(name) ? path.at(-2) : name;
  const isNamed =
    refused !== undefined && (names(refused, own) || (way === "misspelt" && names(refused, misspell(name))));
  const what = `${area} ${path.join(".")}, ${way}`;
  if (shown !== undefined) {
    tally[area].passed += 1;
    if (values.show) console.log(`passed: ${what}${shown === usual[area].shown ? "" : " (shows)"}`);
  } else if (isNamed) {
    tally[area].named += 1;
    if (values.show) console.log(`named: ${what}\n${refused}\n`);
  } else missed.push(`${what}\n${foreign ?? refused}`);
}
for (const [area, { named, passed }] of Object.entries(tally))
  console.log(
    `${area.padEnd(10)} ${String(named).padStart(6)} named, ${String(passed).padStart(6)} let through`,
  );
for (const each of missed) console.error(`not named: ${each}\n`);
console.log(`${count} mistakes, seed ${seed}, ${missed.length} not named`);
process.exit(missed.length > 0 ? 1 : 0);
