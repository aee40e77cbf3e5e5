// A request with the session check against the same without it: processor time of the server, which runs in a process of
// its own. Both take short turns, so that whatever else the machine does meanwhile meets both.
import { fork } from "node:child_process";
import { once } from "node:events";
import { Agent, get } from "node:http";
import { fileURLToPath } from "node:url";
import { median, medianRatio } from "./machine.mjs";

const connections = 16;

/** The median of several processes: how one lays out its code and memory moves the ratio by a hundredth or two. */
export async function measureSession(processes = 5) {
  const ratios = [];
  for (let count = 0; count < processes; count += 1) ratios.push(await measureInProcess());
  return { ratio: median(ratios), lowest: Math.min(...ratios), highest: Math.max(...ratios) };
}

async function measureInProcess(rounds = 40, requests = 1000) {
  const server = fork(fileURLToPath(new URL("session-server.mjs", import.meta.url)));
  const [{ origin, cookie }] = await once(server, "message");
  const agent = new Agent({ keepAlive: true, maxSockets: connections });
  const spent = async () => {
    server.send("cpu");
    return (await once(server, "message"))[0];
  };
  const answered = (path) =>
    new Promise((resolve, reject) => {
      // The same headers to both, so that only the check differs.
      get(origin + path, { agent, headers: { cookie } }, (response) => {
        if (response.statusCode !== 200) reject(new Error(`${path}: the answer was ${response.statusCode}`));
        response.on("end", resolve).resume();
      }).on("error", reject);
    });
  const turn = async (path) => {
    await spent();
    const each = async () => {
      for (let index = 0; index < requests / connections; index += 1) await answered(path);
    };
    await Promise.all(Array.from({ length: connections }, each));
    return spent();
  };
  try {
    const [bare, checked] = [[], []];
    for (let round = -20; round < rounds; round += 1) {
      const times = [await turn("/bare"), await turn("/session")];
      if (round < 0) continue;
      bare.push(times[0]);
      checked.push(times[1]);
    }
    return medianRatio(bare, checked);
  } finally {
    agent.destroy();
    server.kill("SIGTERM");
  }
}
