// npm run soak: people sign in, call an API, have their tokens renewed and sign out, for as long as is asked; then the
// counts have to balance, and the app's memory to be what it was. Writes soak.md and soak.svg. Everything is on this
// machine, and ends by itself.
import { fork } from "node:child_process";
import { once } from "node:events";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import { fileURLToPath } from "node:url";
import { Command, InvalidArgumentError } from "commander";
import pc from "picocolors";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { writeReport } from "../scripts/write-report.mjs";
import { plot } from "./plot.mjs";
import { report } from "./report.mjs";

const people = ["Maren", "Zoë", "Ib"];
/** So many are there at the same time; each makes so many calls, so far apart, and signs out. */
const [visitors, calls, pauseSeconds] = [9, 16, 0.5];

const {
  minutes,
  tokenSeconds: accessTokenSeconds,
  store,
  out,
} = new Command("npm run soak --")
  .description("Steady sign-ins, calls, refreshes and sign-outs; writes a report and a plot.")
  .option("--minutes <number>", "how long", readMinutes, 10)
  // So long that each visitor's is renewed on the way.
  .option(
    "--token-seconds <number>",
    "how long access tokens are good; more where a machine is slow",
    Number,
    4,
  )
  .option("--store <place>", "redis://… or postgres://… (default: an SQLite file that is thrown away)")
  .option("--out <folder>", "where soak.md and soak.svg go", "docs")
  .addHelpText("after", "\nExit code: 0 all well, 1 a count does not balance or memory grows.")
  .parse()
  .opts();

/** Some hundred samples, however long it takes. */
const sampleSeconds = Math.max(1, (minutes * 60) / 120);
const folder = mkdtempSync(join(tmpdir(), "tenonsaw-soak-"));
let tokenRequests = 0;
const practice = await startPractice({
  algorithm: "ES256",
  lifetimes: { accessTokenSeconds },
  log: (line) => {
    if (line.startsWith("quayside: POST /token")) tokenRequests += 1;
  },
});
const app = fork(fileURLToPath(new URL("app.mjs", import.meta.url)), {
  execArgv: ["--expose-gc"],
  env: {
    ...process.env,
    STORE: store ?? join(folder, "soak.db"),
    ISSUER: practice.issuer,
    TIDEBOOK: practice.tidebook,
    CLIENT_SECRET: defaultClient.clientSecret,
  },
});
const [{ origin }] = await once(app, "message");
practice.register({
  ...defaultClient,
  redirectUris: [`${origin}/sign-in/from/quayside`],
  postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
});
const ask = async () => {
  app.send("figures");
  return (await once(app, "message"))[0];
};

const counts = { signIns: 0, calls: 0, signOuts: 0, failures: 0 };
const failures = new Map();
const samples = [];
let latencies = { call: [], signIn: [] };
const startedAt = performance.now();
const elapsed = () => (performance.now() - startedAt) / 1000;
const sessionsBefore = (await ask()).sessions;

let isOver = false;
const visits = Array.from({ length: visitors }, (_, index) => visit(index));
while (elapsed() < minutes * 60) {
  await wait(sampleSeconds * 1000);
  const { heapUsed, rss } = await ask();
  const taken = latencies;
  latencies = { call: [], signIn: [] };
  samples.push({
    at: elapsed(),
    heapUsed,
    rss,
    callMedian: quantile(taken.call, 0.5),
    call99: quantile(taken.call, 0.99),
    signInMedian: quantile(taken.signIn, 0.5),
  });
  progress();
}
isOver = true;
await Promise.all(visits);
if (process.stderr.isTTY) process.stderr.write("\n");
const { events, sessions } = await ask();
app.disconnect();
await once(app, "exit");
await practice.stop();
rmSync(folder, { recursive: true });

const result = {
  minutes,
  store: store === undefined ? "SQLite" : new URL(store).protocol.slice(0, -1),
  visitors,
  accessTokenSeconds,
  counts,
  failures: Object.fromEntries(failures),
  refreshes: events.refreshed ?? 0,
  otherEvents: Object.entries(events).filter(([kind]) => kind !== "refreshed"),
  tokenRequests,
  sessionsLeft: sessions - sessionsBefore,
  samples,
};
const { text, isWell } = report(result);
await writeReport(out, "soak.md", text);
writeFileSync(join(out, "soak.svg"), plot(samples));
console.log(text);
process.exitCode = isWell ? 0 : 1;

/** Comes, signs in, calls, goes; and comes again, until it is over. */
async function visit(index) {
  await wait((index / visitors) * 3000);
  while (!isOver) {
    const visitor = createVisitor();
    try {
      await timed("signIn", async () => {
        await visitor.open(`${origin}/sign-in/to/quayside?returnTo=/`);
        await visitor.press(people[index % people.length]);
        expectStatus(await visitor.press("Yes, allow"));
      });
      counts.signIns += 1;
      for (let call = 0; call < calls && !isOver; call += 1) {
        await timed("call", async () => expectStatus(await visitor.open(origin)));
        counts.calls += 1;
        await wait(pauseSeconds * 1000 * (0.5 + Math.random()));
      }
      await visitor.post(`${origin}/sign-in/out`, {});
      counts.signOuts += 1;
    } catch (error) {
      counts.failures += 1;
      failures.set(error.message, (failures.get(error.message) ?? 0) + 1);
      await wait(1000);
    }
  }
}

async function timed(kind, work) {
  const from = performance.now();
  await work();
  latencies[kind].push(performance.now() - from);
}

function expectStatus({ status, text }) {
  if (status !== 200) throw new Error(`status ${status}: ${text.slice(0, 120)}`);
}

function quantile(values, share) {
  if (values.length === 0) return undefined;
  const sorted = [...values].sort((left, right) => left - right);
  return sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * share))];
}

function progress() {
  const { signIns, calls: made, signOuts, failures: failed } = counts;
  const line = `${pc.dim(`${Math.round(elapsed())} s of ${Math.round(minutes * 60)}`)}  ${signIns} sign-ins, ${made} calls, ${signOuts} sign-outs, ${failed} failures`;
  if (process.stderr.isTTY) process.stderr.write(`\r${line}  `);
  else if (samples.length % 6 === 0) process.stderr.write(`${line}\n`);
}

function readMinutes(text) {
  const value = Number(text);
  if (!Number.isFinite(value) || value <= 0 || value > 1440)
    throw new InvalidArgumentError("It takes a number of minutes.");
  return value;
}
