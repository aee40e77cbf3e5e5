// Real servers on free ports of this machine, each with a folder of its own: started, stopped for a while, killed and
// started again. For the tests, and for what attacks and kills.
import { execFileSync, spawn } from "node:child_process";
import { chownSync, mkdtempSync, readdirSync, readFileSync, rmSync } from "node:fs";
import { connect, createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";

/** Keeps everything in its append-only file, so that a crash loses nothing that was answered. */
export async function startRedis(program) {
  const port = await freePort();
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-redis-"));
  const place = ["--port", String(port), "--bind", "127.0.0.1", "--dir", folder];
  const keeping = ["--save", "", "--appendonly", "yes", "--appendfsync", "always"];
  const launch = () => spawn(program, [...place, ...keeping], { stdio: "ignore" });
  return supervise(port, `redis://127.0.0.1:${port}/0`, folder, launch, () => true);
}

/** @param programs the folder where `initdb` and `postgres` are */
export async function startPostgres(programs) {
  const port = await freePort();
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-postgres-"));
  // PostgreSQL does not run as root: it has a user of its own.
  const isRoot = process.getuid?.() === 0;
  const [uid, gid] = isRoot ? ["-u", "-g"].map((flag) => Number(execFileSync("id", [flag, "postgres"]))) : [];
  const options = { stdio: "ignore", cwd: folder, ...(isRoot && { uid, gid }) };
  if (isRoot) chownSync(folder, uid, gid);
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

async function supervise(port, url, folder, launch, isReady) {
  let child;
  const begin = async () => {
    child = launch();
    for (let tries = 0; tries < 600; tries += 1) {
      if ((await answers(port)) && isReady()) return;
      await wait(50);
    }
    throw new RangeError(`The server for ${url} did not start.`);
  };
  const end = async (signal) => {
    if (child.exitCode !== null || child.signalCode !== null) return;
    const gone = new Promise((resolve) => child.once("exit", resolve));
    signalFamily(child.pid, "SIGCONT");
    child.kill(signal);
    await gone;
  };
  await begin();
  return {
    url,
    kill: () => end("SIGKILL"),
    restart: begin,
    pause: () => signalFamily(child.pid, "SIGSTOP"),
    resume: () => signalFamily(child.pid, "SIGCONT"),
    async stop() {
      await end("SIGINT");
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

/** From below the range that the system hands out for port 0, so that nobody else is given it in the meantime. */
export async function freePort() {
  for (;;) {
    const port = 10_000 + Math.floor(Math.random() * 20_000);
    const isFree = await new Promise((resolve) => {
      const server = createServer();
      server.once("error", () => resolve(false));
      server.listen(port, "localhost", () => server.close(() => resolve(true)));
    });
    if (isFree) return port;
  }
}

/** What a store of that kind needs: nothing, where it is a file. */
export async function startStoreServer(kind, { REDIS_SERVER, POSTGRES_PROGRAMS }) {
  if (kind === "redis") return startRedis(REDIS_SERVER);
  if (kind === "postgres") return startPostgres(POSTGRES_PROGRAMS);
  return undefined;
}
