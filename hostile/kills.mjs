// npm run kills: how often does a kill in the middle of a refresh cost the connection? A process is killed at a moment drawn
// at random from the time that a refresh takes, and another one goes on. Everything is on this machine, and ends by itself.
//   npm run kills -- --count 100 --store sqlite
import { fork } from "node:child_process";
import { once } from "node:events";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import { fileURLToPath } from "node:url";
import { parseArgs } from "node:util";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { ready } from "../scripts/ready.mjs";
import { startStoreServer } from "../scripts/servers.mjs";
import { writeReport } from "../scripts/write-report.mjs";

const { values } = parseArgs({
  options: {
    count: { type: "string", default: "60" },
    store: { type: "string", multiple: true, default: ["sqlite", "redis", "postgres"] },
    out: { type: "string" },
  },
});
const count = Number(values.count);
const lifetime = 30;
const lanes = 6;
const worker = fileURLToPath(new URL("../tests/support/refresh-worker.mjs", import.meta.url));
const found = ready();
const rows = [];
for (const kind of values.store) rows.push(await killOn(kind));
const text = report();
console.log(text);
if (values.out !== undefined) await writeReport(values.out, "kills.md", text);

async function killOn(kind) {
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-kills-"));
  const practice = await startPractice({ algorithm: "ES256", lifetimes: { accessTokenSeconds: lifetime } });
  const server = await startStoreServer(kind, found);
  const place = server?.url ?? join(folder, "ferrywell.db");
  // The app in this process signs people in; those that call and are killed are others.
  const { createSignIn } = await import("tenonsaw/server");
  const { nodeListener } = await import("tenonsaw/node");
  const { createServer } = await import("node:http");
  const { openPostgresStore } = await import("tenonsaw/stores/postgres");
  const { openRedisStore } = await import("tenonsaw/stores/redis");
  const { openSqliteStore } = await import("tenonsaw/stores/sqlite");
  const store = await { sqlite: openSqliteStore, redis: openRedisStore, postgres: openPostgresStore }[kind](
    place,
  );
  const web = createServer();
  await new Promise((resolve) => web.listen(0, "localhost", resolve));
  const origin = `http://localhost:${web.address().port}`;
  const signIn = await createSignIn({
    origin,
    keys: Buffer.alloc(32, 7).toString("base64url"),
    store,
    providers: {
      quayside: {
        issuer: practice.issuer,
        clientId: "ferrywell",
        clientSecret: defaultClient.clientSecret,
        scope: "openid offline_access tides.read",
      },
    },
  });
  web.on(
    "request",
    nodeListener(signIn, () => new Response("here")),
  );
  practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] });

  const startWorker = async (session) => {
    const child = fork(worker, {
      env: {
        ...process.env,
        STORE: kind,
        PLACE: place,
        ISSUER: practice.issuer,
        TIDEBOOK: practice.tidebook,
        ORIGIN: origin,
        SESSION: session,
      },
    });
    await once(child, "message");
    return child;
  };
  const call = async (child) => {
    const startedAt = performance.now();
    child.send({ calls: 1, ahead: lifetime + 1 });
    const [{ outcomes }] = await once(child, "message");
    return { outcome: outcomes[0], milliseconds: performance.now() - startedAt };
  };
  const session = async () => {
    const visitor = createVisitor();
    await visitor.open(`${origin}/sign-in/to/quayside?returnTo=/`);
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
    return visitor.cookies.get("localhost").get("tenonsaw-session");
  };
  // How long a refresh takes from the first question to the answer to the call, in a process that has just started.
  // As many at a time as later on, so that it is the same there.
  const times = [];
  const measure = async () => {
    for (let turn = 0; turn < 3; turn += 1) {
      const child = await startWorker(await session());
      times.push((await call(child)).milliseconds);
      child.kill("SIGKILL");
    }
  };
  await Promise.all(Array.from({ length: lanes }, measure));
  const usual = times.sort((a, b) => a - b)[times.length / 2];
  const outcomes = { 200: 0, "connection.ended": 0 };
  // Several at a time: most of it is waiting for the leases of the dead to run out.
  let next = 0;
  const lane = async () => {
    while (next++ < count) {
      const own = await session();
      const doomed = await startWorker(own);
      doomed.send({ calls: 1, ahead: lifetime + 1 });
      await wait(Math.random() * usual);
      doomed.kill("SIGKILL");
      const heir = await startWorker(own);
      const { outcome } = await call(heir);
      outcomes[outcome] = (outcomes[outcome] ?? 0) + 1;
      heir.kill("SIGKILL");
      if (process.stderr.isTTY) process.stderr.write(`\r${kind}: ${next} of ${count}`);
    }
  };
  await Promise.all(Array.from({ length: lanes }, lane));
  web.closeAllConnections();
  web.close();
  await store.close();
  await practice.stop();
  await server?.stop();
  rmSync(folder, { recursive: true, force: true });
  return { kind, usual, outcomes };
}

function report() {
  const lines = rows.map(({ kind, usual, outcomes }) => {
    const lost = outcomes["connection.ended"];
    const others = Object.entries(outcomes).filter(([name]) => !["200", "connection.ended"].includes(name));
    const rest = others.map(([name, number]) => `${number} × ${name}`).join(", ") || "none";
    return `| ${kind} | ${usual.toFixed(0)} | ${count} | ${lost} | ${((100 * lost) / count).toFixed(0)} % | ${rest} |`;
  });
  return `# A kill in the middle of a refresh

\`npm run kills\` kills a process at a moment drawn at random from the time that a refresh takes, against a provider that ends
everything when a spent refresh token comes again. What is lost is lost between the provider's answer and the write, or on the way
([design-refresh.md](design-refresh.md)); everything else the next process goes on with. The share is of kills that fall into a refresh, which is a moment
in the hour that a token lives.

| store | a refresh, ms | kills | connections lost | share | other endings |
| --- | --- | --- | --- | --- | --- |
${lines.join("\n")}
`;
}
