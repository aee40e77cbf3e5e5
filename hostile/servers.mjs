// Real servers on free ports of this machine, each with a folder of its own, to be stopped, killed and started again.
import { execFileSync, spawn } from "node:child_process";
import { chownSync, readdirSync, readFileSync } from "node:fs";
import { connect, createServer } from "node:net";
import { setTimeout as wait } from "node:timers/promises";

export async function startRedis(program, folder, port) {
  const args = ["--port", port, "--bind", "127.0.0.1", "--dir", folder, "--save", "", "--appendonly", "yes"];
  const launch = () => spawn(program, [...args, "--appendfsync", "everysec"], { stdio: "ignore" });
  return supervise(`redis://127.0.0.1:${port}/0`, port, launch);
}

/** @param programs the folder where `initdb` and `postgres` are */
export async function startPostgres(programs, folder, port) {
  const isRoot = process.getuid?.() === 0;
  // PostgreSQL does not run as root: it has a user of its own.
  const [uid, gid] = isRoot ? ["-u", "-g"].map((flag) => Number(execFileSync("id", [flag, "postgres"]))) : [];
  const as = isRoot ? { uid, gid } : {};
  if (isRoot) chownSync(folder, uid, gid);
  const data = ["-D", folder, "-U", "tenonsaw", "-A", "trust", "-N", "-E", "UTF8", "--no-locale"];
  execFileSync(`${programs}/initdb`, data, { stdio: "ignore", cwd: folder, ...as });
  const settings = [
    "-D",
    folder,
    "-k",
    folder,
    "-c",
    "listen_addresses=127.0.0.1",
    "-p",
    port,
    "-c",
    "fsync=off",
  ];
  const launch = () => spawn(`${programs}/postgres`, settings, { stdio: "ignore", cwd: folder, ...as });
  return supervise(`postgres://tenonsaw@127.0.0.1:${port}/postgres`, port, launch);
}

async function supervise(url, port, launch) {
  let child;
  const begin = async () => {
    child = launch();
    for (let tries = 0; tries < 200 && !(await answers(port)); tries += 1) await wait(50);
    await wait(500);
  };
  const end = async (signal) => {
    const gone = new Promise((resolve) => child.once("exit", resolve));
    signalFamily(child.pid, "SIGCONT");
    child.kill(signal);
    await gone;
  };
  await begin();
  return {
    url,
    restart: () => end("SIGKILL").then(begin),
    pause: () => signalFamily(child.pid, "SIGSTOP"),
    resume: () => signalFamily(child.pid, "SIGCONT"),
    stop: () => end("SIGINT"),
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
      return 0;
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

export function freePort() {
  return new Promise((resolve) => {
    const server = createServer();
    server.listen(0, "localhost", () => {
      const { port } = server.address();
      server.close(() => resolve(port));
    });
  });
}
