// A request with the session check against the same without it: processor time of the server, which runs in a process of
// its own. Both take short turns, so that whatever else the machine does meanwhile meets both.
import { fork } from "node:child_process";
import { once } from "node:events";
import { fileURLToPath } from "node:url";
import autocannon from "autocannon";
import { median, rounded } from "./machine.mjs";

export async function measureSession(rounds = 15, requests = 1500) {
  const server = fork(fileURLToPath(new URL("session-server.mjs", import.meta.url)));
  const [{ origin, cookie }] = await once(server, "message");
  const spent = async () => {
    server.send("cpu");
    return (await once(server, "message"))[0];
  };
  // The same headers to both, so that only the check differs.
  const load = async (path) => {
    await spent();
    const headers = { cookie };
    const result = await autocannon({ url: origin + path, amount: requests, connections: 16, headers });
    if (result.non2xx > 0 || result.errors > 0)
      throw new Error(`${path}: ${result.non2xx} answers were not 200`);
    return spent();
  };
  const [bare, checked] = [[], []];
  for (let round = -5; round < rounds; round += 1) {
    const times = [await load("/bare"), await load("/session")];
    if (round < 0) continue;
    bare.push(times[0]);
    checked.push(times[1]);
  }
  server.kill("SIGTERM");
  return { ratio: rounded(median(bare) / median(checked)) };
}
