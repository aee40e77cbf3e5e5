// Calls by the relay against the same by a bare streaming proxy, to one API: how many in a second, how long the slowest take,
// and what a thousand bodies of 1 MB leave in memory. Both take turns, so that whatever else the machine does meets both.
import { fork } from "node:child_process";
import { once } from "node:events";
import { Agent, request as send } from "node:http";
import { fileURLToPath } from "node:url";
import { median, rounded } from "./machine.mjs";

const connections = 16;
const program = fileURLToPath(new URL("relay-server.mjs", import.meta.url));

/** By the platform's own fetch, and by one that pipes. */
export async function measureRelay(rounds = 15) {
  return { ...(await measureBy("fetch", rounds)), piped: await measureBy("piped", rounds) };
}

async function measureBy(fetching, rounds) {
  const api = fork(program, ["api"]);
  const [{ port }] = await once(api, "message");
  const server = fork(program, ["server", String(port), fetching], { execArgv: ["--expose-gc"] });
  const [{ origin, cookie }] = await once(server, "message");
  const agent = new Agent({ keepAlive: true, maxSockets: connections });
  const headers = { cookie, "sec-fetch-site": "same-origin", "sec-fetch-dest": "empty" };
  const call = (path, body) =>
    new Promise((resolve, reject) => {
      const method = body ? "POST" : "GET";
      const onward = send(origin + path, { agent, method, headers }, (response) => {
        if (response.statusCode !== 200) reject(new Error(`${path}: ${response.statusCode}`));
        response.on("end", resolve).resume();
      });
      onward.on("error", reject);
      onward.end(body);
    });
  const turn = async (path, count, body) => {
    const times = [];
    const startedAt = performance.now();
    const each = async () => {
      for (let index = 0; index < count / connections; index += 1) {
        const began = performance.now();
        await call(path, body);
        times.push(performance.now() - began);
      }
    };
    await Promise.all(Array.from({ length: connections }, each));
    times.sort((left, right) => left - right);
    return {
      perSecond: times.length / (performance.now() - startedAt),
      p99: times[Math.floor(times.length * 0.99)],
    };
  };
  const compare = async (path, count, body) => {
    const [throughput, latency] = [[], []];
    for (let round = -3; round < rounds; round += 1) {
      const bare = await turn(`/bare${path}`, count, body);
      const relayed = await turn(`/sign-in/relay/tides${path}`, count, body);
      if (round < 0) continue;
      throughput.push(relayed.perSecond / bare.perSecond);
      latency.push(relayed.p99 / bare.p99);
    }
    return { throughput: rounded(median(throughput)), p99: rounded(median(latency)) };
  };
  const memory = async () => {
    server.send("memory");
    return (await once(server, "message"))[0].bytes;
  };
  try {
    const small = await compare("/small", 800);
    const large = await compare("/large", 96);
    const body = Buffer.alloc(1024 * 1024, 7);
    // What a process keeps ready for the next bodies goes up and down; the least of several looks is what it cannot give back.
    const leastAfter = async (turns) => {
      const looks = [];
      for (let index = 0; index < turns; index += 1) {
        await turn("/sign-in/relay/tides/upload", 500, body);
        looks.push(await memory());
      }
      return Math.min(...looks);
    };
    const before = await leastAfter(8);
    const grownMegabytes = ((await leastAfter(8)) - before) / 1024 / 1024;
    return { small, large, grownMegabytes: Number(grownMegabytes.toFixed(1)) };
  } finally {
    agent.destroy();
    server.kill("SIGTERM");
    api.kill("SIGTERM");
  }
}
