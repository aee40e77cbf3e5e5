// Real servers on free ports of this machine, each with a folder of its own: started, stopped for a while, killed and
// started again. For the tests, and for what attacks and kills.
import { execFileSync, spawn } from "node:child_process";
import { chownSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { connect, createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import { createClient } from "redis";

/** Keeps everything in its append-only file, so that a crash loses nothing that was answered. */
export async function startRedis(program) {
  const port = await freePorts(1);
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-redis-"));
  const place = ["--port", String(port), "--bind", "127.0.0.1", "--dir", folder];
  const keeping = ["--save", "", "--appendonly", "yes", "--appendfsync", "always"];
  const launch = () => spawn(program, [...place, ...keeping], { stdio: "ignore" });
  return supervise(port, `redis://127.0.0.1:${port}/0`, folder, launch, () => true);
}

/**
 * A cluster of three servers, and a fourth that follows the first of them, which is given the slot of a key.
 *
 * @param key what decides which node it is about
 */
export async function startRedisCluster(program, key) {
  const nodes = await Promise.all(Array.from({ length: 4 }, () => startNode(program)));
  const [first, second, third, follower] = nodes;
  const stop = async () => {
    for (const { client, stop: end } of nodes) {
      client.destroy();
      await end();
    }
  };
  const until = async (what, isSo) => {
    for (let tries = 0; tries < 200; tries += 1) {
      if (await isSo().catch(() => false)) return;
      await wait(50);
    }
    throw new RangeError(`The cluster did not come to it: ${what}.`);
  };
  const slot = Number(await first.ask("CLUSTER", "KEYSLOT", key));
  // Whoever has more than one keeps being a master when it gives that one away.
  const parts = [0, 5461, 10_922, 16_384];
  const ranges = parts.slice(1).map((end, index) => [parts[index], end - 1]);
  ranges.sort(([, end], [, other]) => Number(slot > end) - Number(slot > other) || end - other);
  for (const [index, [from, to]] of ranges.entries())
    await nodes[index].ask("CLUSTER", "ADDSLOTSRANGE", from, to);
  for (const { port, bus } of [second, third, follower])
    await first.ask("CLUSTER", "MEET", "127.0.0.1", port, bus);
  const isWhole = async ({ ask }) => {
    const told = await ask("CLUSTER", "INFO");
    return told.includes("cluster_state:ok") && told.includes("cluster_known_nodes:4");
  };
  await until("all know each other", async () => (await Promise.all(nodes.map(isWhole))).every(Boolean));
  const idOf = ({ ask }) => ask("CLUSTER", "MYID");
  await follower.ask("CLUSTER", "REPLICATE", await idOf(first));
  await until("the follower follows", async () =>
    (await follower.ask("INFO", "replication")).includes("master_link_status:up"),
  );
  return {
    url: first.url,
    async clear() {
      for (const { ask } of nodes) if ((await ask("ROLE"))[0] === "master") await ask("FLUSHALL");
    },
    /** Moves the slot to the second node, key by key, as an operator does. */
    async moveSlot(meanwhile = () => undefined) {
      const [from, to] = [await idOf(first), await idOf(second)];
      await second.ask("CLUSTER", "SETSLOT", slot, "IMPORTING", from);
      await first.ask("CLUSTER", "SETSLOT", slot, "MIGRATING", to);
      for (;;) {
        const keys = await first.ask("CLUSTER", "GETKEYSINSLOT", slot, 10);
        if (keys.length === 0) break;
        await first.ask("MIGRATE", "127.0.0.1", second.port, "", 0, 5000, "KEYS", ...keys);
        await meanwhile();
      }
      for (const node of [second, first, third]) await node.ask("CLUSTER", "SETSLOT", slot, "NODE", to);
    },
    /** Ends the first node, as a crash would; the follower takes over. */
    async failOver() {
      await first.kill();
      await until("the follower has taken over", async () => (await follower.ask("ROLE"))[0] === "master");
    },
    /** Lets the follower stand still, and go on. */
    pauseFollower: follower.pause,
    resumeFollower: follower.resume,
    stop,
  };
}

async function startNode(program) {
  const [port, bus] = [await freePorts(1), await freePorts(1)];
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-cluster-"));
  const place = ["--port", String(port), "--bind", "127.0.0.1", "--dir", folder];
  const inCluster = [
    "--cluster-enabled",
    "yes",
    "--repl-diskless-sync-delay",
    "0",
    "--cluster-node-timeout",
    "2000",
    "--cluster-port",
    String(bus),
  ];
  const args = [...place, ...inCluster, "--save", "", "--appendonly", "yes"];
  const url = `redis://127.0.0.1:${port}`;
  const server = await supervise(
    port,
    url,
    folder,
    () => spawn(program, args, { stdio: "ignore" }),
    () => true,
  );
  const client = createClient({ url });
  client.on("error", () => undefined);
  await client.connect();
  return { ...server, port, bus, client, ask: (...command) => client.sendCommand(command.map(String)) };
}

/** @param programs the folder where `initdb` and `postgres` are */
export async function startPostgres(programs) {
  const port = await freePorts(1);
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-postgres-"));
  const options = asPostgres(folder);
  const program = (name) => join(programs, name);
  const made = ["-D", folder, "-U", "tenonsaw", "-A", "trust", "-N", "-E", "UTF8", "--no-locale"];
  execFileSync(program("initdb"), made, options);
  const settings = ["listen_addresses=127.0.0.1", "max_connections=200"].flatMap((setting) => [
    "-c",
    setting,
  ]);
  const args = ["-D", folder, "-k", folder, "-p", String(port), ...settings];
  const launch = () => spawn(program("postgres"), args, options);
  const isReady = () => {
    try {
      execFileSync(program("pg_isready"), ["-h", "127.0.0.1", "-p", String(port)], { stdio: "ignore" });
      return true;
    } catch {
      return false;
    }
  };
  return supervise(port, `postgres://tenonsaw@127.0.0.1:${port}/postgres`, folder, launch, isReady);
}

/** PostgreSQL and what belongs to it do not run as root: they have a user of their own, and the folder is theirs. */
function asPostgres(folder) {
  const isRoot = process.getuid?.() === 0;
  const [uid, gid] = isRoot ? ["-u", "-g"].map((flag) => Number(execFileSync("id", [flag, "postgres"]))) : [];
  if (isRoot) chownSync(folder, uid, gid);
  return { stdio: "ignore", cwd: folder, ...(isRoot && { uid, gid }) };
}

/**
 * A pooler in front of a PostgreSQL server: each transaction gets one of three connections, whichever is free.
 *
 * @param ignored startup parameters that it leaves out, where it would refuse them otherwise
 */
export async function startPooler(program, serverUrl, ignored = "") {
  const port = await freePorts(1);
  const { port: serverPort } = new URL(serverUrl);
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-pooler-"));
  const lines = [
    "[databases]",
    `postgres = host=127.0.0.1 port=${serverPort}`,
    "[pgbouncer]",
    `listen_port = ${port}`,
    "listen_addr = 127.0.0.1",
    `unix_socket_dir = ${folder}`,
    "auth_type = trust",
    "auth_file = users.txt",
    "pool_mode = transaction",
    "default_pool_size = 3",
    `ignore_startup_parameters = extra_float_digits${ignored && `,${ignored}`}`,
  ];
  writeFileSync(join(folder, "pooler.ini"), lines.join("\n"));
  writeFileSync(join(folder, "users.txt"), '"tenonsaw" ""\n');
  const options = asPostgres(folder);
  const launch = () => spawn(program, ["pooler.ini"], options);
  return supervise(port, `postgres://tenonsaw@127.0.0.1:${port}/postgres`, folder, launch, () => true);
}

async function supervise(port, url, folder, launch, isReady) {
  let child;
  const begin = async () => {
    child = launch();
    for (let tries = 0; tries < 600; tries += 1) {
      if ((await answers(port)) && isReady()) return;
      await wait(50);
      // What a crash has left behind may still hold its memory or its port for a moment.
      if (child.exitCode !== null) child = launch();
    }
    throw new RangeError(`The server for ${url} did not start.`);
  };
  const end = async (strike) => {
    if (child.exitCode !== null || child.signalCode !== null) return;
    const gone = new Promise((resolve) => child.once("exit", resolve));
    signalFamily(child.pid, "SIGCONT");
    strike(child.pid);
    await gone;
  };
  await begin();
  return {
    url,
    // With its children: one of PostgreSQL's goes on answering for a moment after the server is gone.
    kill: () => end((pid) => signalFamily(pid, "SIGKILL")),
    restart: begin,
    pause: () => signalFamily(child.pid, "SIGSTOP"),
    resume: () => signalFamily(child.pid, "SIGCONT"),
    async stop() {
      await end((pid) => process.kill(pid, "SIGINT"));
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

function answers(port) {
  return new Promise((resolve) => {
    const socket = connect({ port, host: "127.0.0.1" }, () => {
      socket.destroy();
      resolve(true);
    });
    socket.on("error", () => resolve(false));
  });
}

/** A process and its children. */
function signalFamily(pid, signal) {
  const parentOf = (each) => {
    try {
      return Number(readFileSync(`/proc/${each}/stat`, "utf8").split(") ")[1]?.split(" ")[1]);
    } catch {
      return 0; // it is gone
    }
  };
  const children = readdirSync("/proc").filter((each) => /^\d+$/.test(each) && parentOf(each) === pid);
  for (const each of [pid, ...children.map(Number)]) {
    try {
      process.kill(each, signal);
    } catch {
      // it is gone
    }
  }
}

/**
 * The first of `count` free ports in a row. They are taken from below the range that the system hands out for port 0, so that
 * nobody else is given one of them in the meantime, and above 10080, the last that `fetch` never asks (Fetch Standard, port
 * blocking).
 */
export async function freePorts(count) {
  for (;;) {
    const first = 11_000 + Math.floor(Math.random() * 19_000);
    const free = await Promise.all(Array.from({ length: count }, (_, offset) => isFree(first + offset)));
    if (free.every(Boolean)) return first;
  }
}

function isFree(port) {
  return new Promise((resolve) => {
    const server = createServer();
    server.once("error", () => resolve(false));
    server.listen(port, "localhost", () => server.close(() => resolve(true)));
  });
}

/** What a store of that kind needs: nothing, where it is a file. */
export async function startStoreServer(kind, { REDIS_SERVER, POSTGRES_PROGRAMS }) {
  if (kind === "redis") return startRedis(REDIS_SERVER);
  if (kind === "postgres") return startPostgres(POSTGRES_PROGRAMS);
  return undefined;
}
