// npm run hostile: a stranger attacks an app on each store, its store fails under it, and people go on using it. Reports
// what the app took up, how long people waited, and what was lost. Everything is on this machine, and ends by itself.
//   npm run hostile -- --seconds 20 --store sqlite --no-whole
import { fork, spawn } from "node:child_process";
import { once } from "node:events";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import { fileURLToPath } from "node:url";
import { parseArgs } from "node:util";
import pg from "pg";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { ready } from "../scripts/ready.mjs";
import { freePorts, startStoreServer } from "../scripts/servers.mjs";
import { writeReport } from "../scripts/write-report.mjs";
import { tryOpenings } from "./openings.mjs";

const { values } = parseArgs({
  allowNegative: true,
  options: {
    seconds: { type: "string", default: "10" },
    store: { type: "string", multiple: true, default: ["sqlite", "redis", "postgres"] },
    whole: { type: "boolean", default: true },
    out: { type: "string" },
  },
});
const seconds = Number(values.seconds);
const people = ["Maren", "Zoë", "Ib"];
const visitors = 6;
const found = ready();
const here = (name) => fileURLToPath(new URL(name, import.meta.url));
const rows = [];

const openings = await tryOpenings();
for (const kind of values.store) await attackOn(kind);
const text = report();
console.log(text);
if (values.out !== undefined) await writeReport(values.out, "hostile.md", text);
const isShut = openings.every(({ opened }) => opened === 0);
process.exitCode = isShut && rows.every(({ isWell }) => isWell) ? 0 : 1;

async function attackOn(kind) {
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-hostile-"));
  const appPort = await freePorts(1);
  const practice = await startPractice({ algorithm: "ES256", lifetimes: { accessTokenSeconds: 6 } });
  const server = await startStoreServer(kind, found);
  const env = {
    ...process.env,
    PORT: String(appPort),
    STORE: server?.url ?? join(folder, "ferrywell.db"),
    ISSUER: practice.issuer,
    TIDEBOOK: practice.tidebook,
    CLIENT_SECRET: defaultClient.clientSecret,
  };
  const startApp = async (limit) => {
    // A limit for the size of files stands in for a disk that is full.
    const app =
      limit === undefined
        ? fork(here("app.mjs"), { env })
        : spawn("bash", ["-c", `ulimit -f ${limit}; exec "$0" "$1"`, process.execPath, here("app.mjs")], {
            env,
            stdio: ["ignore", "inherit", "inherit", "ipc"],
          });
    await once(app, "message");
    return app;
  };
  let app = await startApp();
  const origin = `http://localhost:${appPort}`;
  practice.register({
    ...defaultClient,
    redirectUris: [`${origin}/sign-in/from/quayside`],
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
  });
  const stranger = fork(here("stranger.mjs"), { env: { ...process.env, ORIGIN: origin } });
  const [{ attacks }] = await once(stranger, "message");

  const all = await Promise.all(
    Array.from({ length: visitors }, (_, index) => signIn(origin, people[index % people.length])),
  );
  const ask = async () => {
    app.send("figures");
    return (await once(app, "message"))[0];
  };
  await visit(all, origin, 2); // warm
  await ask();
  const quiet = await visit(all, origin, seconds);
  rows.push({
    kind,
    attack: "nothing: a quiet time",
    ...(await ask()),
    ...figures(quiet),
    isWell: quiet.refused === 0,
  });

  const during = async (attack, work, { mayRefuse = false, mayBeSlow = false, mayBeAway = false } = {}) => {
    await ask();
    const working = work();
    const seen = await visit(all, origin, seconds, working);
    const done = await working;
    const took = await ask();
    const after = await settle(all, origin);
    const ratio = quantile(seen.latencies, 0.99) / quantile(quiet.latencies, 0.99);
    const isWell =
      (mayBeAway || after === 0) && (mayRefuse || seen.refused === 0) && (mayBeSlow || ratio <= 5);
    const count = typeof done === "number" && done > 0 ? ` (${done})` : "";
    rows.push({
      kind,
      attack: attack + count,
      ...took,
      ...figures(seen),
      ratio,
      ...(!mayBeAway && { lost: after }),
      isWell,
    });
    process.stderr.write(`${kind}: ${attack}${isWell ? "" : "  NOT WELL"}\n`);
  };

  const trouble = { mayRefuse: true, mayBeSlow: true };
  // While the file is small: the limit is one of each file, and the log beside it may grow as large.
  if (kind === "sqlite") {
    app.disconnect();
    await once(app, "exit");
    // Room for what is there, and no more.
    const { size } = await import("node:fs").then(({ statSync }) => statSync(env.STORE));
    app = await startApp(Math.ceil(size / 1024) + 64);
    await during(
      "its disk is full",
      async () => {
        stranger.send({ attack: "sign-ins begun", seconds });
        return (await once(stranger, "message"))[0].done;
      },
      { ...trouble, mayBeAway: true },
    );
    app.disconnect();
    await once(app, "exit");
    app = await startApp();
    const lost = await settle(all, origin);
    rows.push({ kind, attack: "and has room again", ...(await ask()), lost, isWell: lost === 0 });
  }
  for (const attack of attacks)
    await during(attack, async () => {
      // A hundred thousand of them, once; on the other stores as many as there is time for.
      const isMost = attack === "sign-ins begun" && kind === "sqlite" && values.whole;
      stranger.send({ attack, seconds: isMost ? 300 : seconds });
      return (await once(stranger, "message"))[0].done;
    });
  if (server) {
    await during("its store stands still for a while", () => pauseFor(server), trouble);
    await during("its store is killed and started again, twice", () => restartTwice(server), trouble);
  }
  if (kind === "postgres")
    await during("all its connections are ended, again and again", () => terminate(server.url), trouble);
  const { events } = await ask();
  if ((events["needs consent"] ?? 0) > 0) rows.at(-1).isWell = false;
  for (const child of [app, stranger]) {
    child.disconnect();
    await once(child, "exit");
  }
  await practice.stop();
  await server?.stop();
  rmSync(folder, { recursive: true, force: true });
}

async function signIn(origin, person) {
  const visitor = createVisitor();
  await visitor.open(`${origin}/sign-in/to/quayside?returnTo=/`);
  await visitor.press(person);
  if (visitor.page.text.includes("Yes, allow")) await visitor.press("Yes, allow");
  return visitor;
}

/** People come by, ten times a second each, with an API call behind every page; their tokens are renewed on the way. */
async function visit(all, origin, forSeconds, until = Promise.resolve()) {
  const seen = { latencies: [], refused: 0 };
  const endsAt = performance.now() + forSeconds * 1000;
  let isDone = false;
  void until.finally(() => (isDone = true));
  await Promise.all(
    all.map(async (visitor) => {
      while (performance.now() < endsAt || !isDone) {
        const startedAt = performance.now();
        const status = await visitor.fetch(origin).then(
          async (answer) => (await answer.text(), answer.status),
          () => 0,
        );
        if (status === 200) seen.latencies.push(performance.now() - startedAt);
        else seen.refused += 1;
        await wait(100);
      }
    }),
  );
  return seen;
}

/** How many of them are not signed in any more, or cannot call the API, when all is as before. */
async function settle(all, origin) {
  let lost = all;
  for (let tries = 0; tries < 30 && lost.length > 0; tries += 1) {
    const statuses = await Promise.all(
      lost.map((visitor) =>
        visitor.fetch(origin).then(
          ({ status }) => status,
          () => 0,
        ),
      ),
    );
    lost = lost.filter((_, index) => statuses[index] !== 200);
    if (lost.length > 0) await wait(500);
  }
  return lost.length;
}

async function pauseFor(server) {
  await wait(500);
  server.pause();
  await wait(seconds * 700);
  server.resume();
}
async function restartTwice(server) {
  for (let turn = 0; turn < 2; turn += 1) {
    await wait(seconds * 300);
    await server.kill();
    await server.restart();
  }
}
async function terminate(url) {
  const client = new pg.Client(url);
  await client.connect();
  const endsAt = performance.now() + seconds * 900;
  let ended = 0;
  while (performance.now() < endsAt) {
    const sql =
      "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type = 'client backend'";
    ended += (await client.query(sql)).rowCount;
    await wait(100);
  }
  await client.end();
  return ended;
}

function figures({ latencies, refused }) {
  return { requests: latencies.length, refused, p99: quantile(latencies, 0.99) };
}
function quantile(numbers, share) {
  const sorted = [...numbers].sort((a, b) => a - b);
  return sorted[Math.min(sorted.length - 1, Math.floor(share * sorted.length))] ?? 0;
}

function report() {
  const number = (value, digits = 0) => (value === undefined ? "" : value.toFixed(digits));
  const lines = rows.map(
    ({ kind, attack, megabytes, delayMilliseconds, requests, refused, p99, ratio, lost, isWell }) =>
      `| ${kind} | ${attack} | ${number(megabytes)} | ${number(delayMilliseconds)} | ${number(requests)} | ${number(refused)} | ${number(p99, 1)} | ${number(ratio, 1)} | ${number(lost)} | ${isWell ? "yes" : "**no**"} |`,
  );
  return `# A hostile stranger, and stores that fail

\`npm run hostile\` attacks an app in a process of its own, on each store with a real server, for ${seconds} s each, while ${visitors} people use it
ten times a second each, an API call behind every page and a token that lives for six seconds. While a store is away people
are refused, and that is all: afterwards nobody has lost anything.

| store | attack | memory, MiB | longest stop of the event loop, ms | requests of people | refused | p99, ms | × the quiet time | lost | as it should be |
| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |
${lines.join("\n")}

## What opens nothing

| attempt | tried | opened |
| --- | --- | --- |
${openings.map(({ attack, tried, opened }) => `| ${attack} | ${tried} | ${opened === 0 ? "0" : `**${opened}**`} |`).join("\n")}
`;
}
