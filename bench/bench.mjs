// npm run bench: ratios within one run, against the bare platform. Writes bench/results.json.
import { writeFileSync } from "node:fs";
import { machine } from "./machine.mjs";
import { measureSession } from "./session.mjs";
import { measureSignIn } from "./sign-in.mjs";
import { measureVerification } from "./verification.mjs";

const verification = await step(
  "ID-token verification against a raw signature check (about 15 s)",
  measureVerification,
);
const session = await step(
  "requests with the session check against the same without (about 25 s)",
  measureSession,
);
const signIn = await step("a whole sign-in against its cryptography (about 5 s)", measureSignIn);

const results = { machine: machine(), verification, session, signIn };
writeFileSync(new URL("results.json", import.meta.url), `${JSON.stringify(results, undefined, 2)}\n`);

console.log(`
ID-token verification / raw signature check (aim: at least 0.85)
${Object.entries(verification)
  .map(([name, ratio]) => row(name, ratio, ratio >= 0.85))
  .join("\n")}

Requests with the session check / without it, memory store (aim: at least 0.8)
${row("throughput", session.ratio, session.ratio >= 0.8)}

A sign-in's processor time / that of its cryptography (lower is better)
${row("times", signIn.timesItsCrypto, undefined)}
${row("ms each", signIn.millisecondsEach, undefined)}
`);

async function step(title, measure) {
  process.stderr.write(`measuring ${title} …\n`);
  return measure();
}

function row(name, value, isMet) {
  return `  ${name.padEnd(12)} ${String(value).padStart(6)}  ${isMet === undefined ? "" : isMet ? "met" : "NOT met"}`;
}
