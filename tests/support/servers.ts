import { execFileSync, spawn, type ChildProcess } from "node:child_process";
import { chownSync, mkdtempSync, readdirSync, readFileSync, rmSync } from "node:fs";
import { connect } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import { freePorts } from "./processes.js";

/** A real server on a free port of this machine, with a folder of its own. */
export interface Server {
  readonly url: string;
  /** Ends it at once, as a crash would, and keeps what it has written. */
  kill(): Promise<void>;
  /** Starts it again, at the same port. */
  restart(): Promise<void>;
  /** Lets it stand still, connections and all, as an overloaded machine does; and go on. */
  pause(): void;
  resume(): void;
  /** Ends it and throws its folder away. */
  stop(): Promise<void>;
}

async function supervise(
  port: number,
  url: string,
  folder: string,
  launch: () => ChildProcess,
  isReady: () => boolean | Promise<boolean>,
): Promise<Server> {
  let child: ChildProcess | undefined;
  const begin = async () => {
    child = launch();
    for (let tries = 0; tries < 200; tries += 1) {
      if ((await answers(port)) && (await isReady())) return;
      await wait(50);
    }
    throw new RangeError(`The server for ${url} did not start.`);
  };
  const end = async (signal: NodeJS.Signals) => {
    const running = child;
    if (running?.exitCode !== null || running.signalCode !== null) return;
    const gone = new Promise((resolve) => running.once("exit", resolve));
    running.kill(signal);
    await gone;
  };
  await begin();
  return {
    url,
    kill: () => end("SIGKILL"),
    restart: begin,
    pause: () => signalFamily(child?.pid ?? 0, "SIGSTOP"),
    resume: () => signalFamily(child?.pid ?? 0, "SIGCONT"),
    async stop() {
      signalFamily(child?.pid ?? 0, "SIGCONT");
      await end("SIGINT");
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** A process and its children. */
function signalFamily(pid: number, signal: NodeJS.Signals): void {
  const parentOf = (each: string) => {
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

function answers(port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = connect({ port, host: "127.0.0.1" }, () => {
      socket.destroy();
      resolve(true);
    });
    socket.on("error", () => resolve(false));
  });
}

/** Keeps everything in its append-only file, so that a crash loses nothing that was answered. */
export async function startRedis(program: string): Promise<Server> {
  const port = await freePorts(1);
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-redis-"));
  const args = [
    "--port",
    String(port),
    "--bind",
    "127.0.0.1",
    "--dir",
    folder,
    "--save",
    "",
    "--appendonly",
    "yes",
  ];
  const launch = () => spawn(program, [...args, "--appendfsync", "always"], { stdio: "ignore" });
  return supervise(port, `redis://127.0.0.1:${port}/0`, folder, launch, () => true);
}

/** @param folderOfPrograms where `initdb` and `postgres` are */
export async function startPostgres(folderOfPrograms: string): Promise<Server> {
  const port = await freePorts(1);
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-postgres-"));
  // PostgreSQL does not run as root: it has a user of its own.
  const isRoot = process.getuid?.() === 0;
  const [uid, gid] = isRoot ? ["-u", "-g"].map((flag) => Number(execFileSync("id", [flag, "postgres"]))) : [];
  const as = isRoot ? { uid: uid ?? 0, gid: gid ?? 0 } : {};
  if (isRoot) chownSync(folder, uid ?? 0, gid ?? 0);
  const program = (name: string) => join(folderOfPrograms, name);
  const options = ["-D", folder, "-U", "tenonsaw", "-A", "trust", "-N", "-E", "UTF8", "--no-locale"];
  execFileSync(program("initdb"), options, { stdio: "ignore", cwd: folder, ...as });
  const settings = [
    "-k",
    folder,
    "-c",
    "listen_addresses=127.0.0.1",
    "-p",
    String(port),
    "-c",
    "max_connections=200",
  ];
  const launch = () =>
    spawn(program("postgres"), ["-D", folder, ...settings], { stdio: "ignore", cwd: folder, ...as });
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
