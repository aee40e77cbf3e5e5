// npm run bench: ratios within one run, against the bare platform. Writes bench/results.json.
import { fork } from "node:child_process";
import { once } from "node:events";
import { writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { machine } from "./machine.mjs";

const verification = await step(
  "verification against a raw signature check (about 25 s)",
  "verification",
  "measureVerification",
);
const hundredKeys = await step(
  "verification with a hundred keys against one (about 3 s)",
  "verification",
  "measureKeySet",
);
const session = await step(
  "requests with the session check against the same without (about 60 s)",
  "session",
  "measureSession",
);
const signIn = await step(
  "whole sign-ins against their HTTP and cryptography (about 25 s)",
  "sign-in",
  "measureSignIn",
);

const openAttempts = await step(
  "beginning with ten thousand open against few (about 20 s)",
  "attempts",
  "measureOpenAttempts",
);

const stores = await step("the stores, each against its driver (about 150 s)", "stores", "measureStores");
const waiters = await step("those who wait for a refresh (about 10 s)", "waiters", "measureWaiters");

const relay = await step("the relay against a bare streaming proxy (about 90 s)", "relay", "measureRelay");

const guard = await step("the guard (about 60 s)", "guard", "measureGuard");

const results = {
  machine: machine(),
  verification,
  hundredKeys,
  session,
  signIn,
  openAttempts,
  stores,
  waiters,
  relay,
  guard,
};
writeFileSync(new URL("results.json", import.meta.url), `${JSON.stringify(results, undefined, 2)}\n`);

/** By the platform's own fetch, and by createPipedFetch. */
const relayed = (size, judge) =>
  [
    ["fetch", relay[size]],
    ["piped", relay.piped[size]],
  ]
    .map(([name, measured]) => row(name, ...judge(measured)))
    .join("\n");
const each = (name, aim) =>
  Object.entries(verification)
    .map(([algorithm, ratios]) => row(algorithm, ratios[name], aim && ratios[name] >= aim))
    .join("\n");
console.log(`
Raw signature check / the least that yields the claims: decoding, JSON.parse and the raw check
${each("least")}

Raw signature check / verification of a signed token (aim: at least 0.9)
${each("verify", 0.9)}

Raw signature check / validation of an ID token, every check included
${each("idToken")}

Raw signature check / a token that comes again (aim: at least 20)
${each("repeated", 20)}

Verification with a hundred published keys / with one (aim: at most 1.1)
${row("time", hundredKeys, hundredKeys <= 1.1)}

Requests with the session check / without it, memory store (aim: at least 0.85)
${row("median", session.ratio, session.ratio >= 0.85)}
${row("lowest", session.lowest)}
${row("highest", session.highest)}

A sign-in's processor time / that of its HTTP and cryptography (aim: at most 1.3)
${row("times", signIn.timesHttpAndCrypto, signIn.timesHttpAndCrypto <= 1.3)}
${row("ms each", signIn.millisecondsEach)}

Beginning a sign-in with ten thousand others open / with few (aim: at most 1.2)
${row("time", openAttempts.time, openAttempts.time <= 1.2)}
${row("bytes each", openAttempts.bytesEach)}

The driver's own read of a session with its person / ours (aim: at least 0.8)
${ofStores((each) => [each.read, each.read >= 0.8])}

The leanest read that the driver has / ours: values without names; of Redis the session without its person
${ofStores((each) => [each.leanRead])}

Reading a session among a million / among a thousand, 99th percentile (aim: at most 2)
${ofStores((each) => [each.amongMillion, each.amongMillion <= 2])}

Bytes that a sign-in takes up: person, identity, session, connection
${ofStores((each) => [each.bytesEach])}

Bodies of 1 MB in a second by the relay / by a bare streaming proxy of node:http, same API (aim: at least 0.7)
${relayed("large", ({ throughput }) => [throughput, throughput >= 0.7])}

The same, 99th percentile of how long one takes (aim: at most 1.5)
${relayed("large", ({ p99 }) => [p99, p99 <= 1.5])}

The same with answers of 1.2 KB, where there is little to stream: what a call of the relay costs by itself, which has a person, a token and rules
${relayed("small", ({ throughput }) => [throughput])}
${relayed("small", ({ p99 }) => [p99])}

Memory within the second four thousand relayed bodies of 1 MB, beyond that within the first, the least each (aim: at most 20 MB)
${row("fetch", relay.grownMegabytes, relay.grownMegabytes <= 20)}
${row("piped", relay.piped.grownMegabytes, relay.piped.grownMegabytes <= 20)}

Raw signature check / the guard at a token that comes again (aim: at least 20)
${row("again", guard.repeated, guard.repeated >= 20)}

Decoding, parsing and the raw signature check / the guard at a token that comes for the first time (aim: at least 0.85)
${row("first", guard.first, guard.first >= 0.85)}

Two raw signature checks / the guard at a bound token with its proof, both for the first time (aim: at least 0.8)
${row("bound", guard.bound, guard.bound >= 0.8)}

Requests without the guard / behind it, a bare server of node:http (aim: at least 0.85)
${row("median", guard.server.ratio, guard.server.ratio >= 0.85)}
${row("lowest", guard.server.lowest)}
${row("highest", guard.server.highest)}

Refusing the dearest of some hostile tokens of up to 64 KB (aim: at most 1 ms)
${row("ms", guard.hostile, guard.hostile <= 1)}

Ten thousand tokens in rotation / one that comes again, 99th percentile (aim: at most 2), and the memory they go on taking
${row("p99", guard.rotation.p99, guard.rotation.p99 <= 2)}
${row("MB", guard.rotation.grownMegabytes)}

Waiting for a refresh beyond 1.1 times the provider's latency of ${waiters.latencyMilliseconds} ms, 99th percentile (aim: at most 50 ms)
${row("ms", waiters.p99MillisecondsBeyond, waiters.p99MillisecondsBeyond <= 50)}
`);

function ofStores(figures) {
  return Object.entries(stores)
    .map(([name, each]) => row(name, ...figures(each)))
    .join("\n");
}

/** Each in a process of its own: what one leaves behind, in memory or as compiled code, is not measured with the next. */
async function step(what, file, name) {
  console.error(`measuring ${what} …`);
  const child = fork(fileURLToPath(new URL("one.mjs", import.meta.url)), [`./${file}.mjs`, name], {
    execArgv: ["--expose-gc"],
  });
  const [answer] = await Promise.race([once(child, "message"), once(child, "exit")]);
  if (typeof answer === "object" && answer !== null) return answer.result;
  throw new TypeError(`${name} ended with ${answer}`);
}

function row(name, value, isMet) {
  return `  ${name.padEnd(12)} ${String(value).padStart(6)}  ${isMet === undefined ? "" : isMet ? "met" : "NOT met"}`;
}
