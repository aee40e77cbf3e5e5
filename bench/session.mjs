// Requests a second through the session check, against the same server without it.
import { spawn } from "node:child_process";
import { once } from "node:events";
import { fileURLToPath } from "node:url";
import autocannon from "autocannon";
import { median, rounded } from "./machine.mjs";

export async function measureSession(rounds = 5, seconds = 2) {
  const script = fileURLToPath(new URL("session-server.mjs", import.meta.url));
  const server = spawn(process.execPath, [script], { stdio: ["ignore", "pipe", "inherit"] });
  const [line] = await once(server.stdout, "data");
  const { origin, cookie } = JSON.parse(line.toString());
  // The same headers to both, so that only the check differs.
  const load = async (path, duration) => {
    const result = await autocannon({ url: origin + path, duration, connections: 16, headers: { cookie } });
    if (result.non2xx > 0 || result.errors > 0)
      throw new Error(`${path}: ${result.non2xx} answers were not 200`);
    return result.requests.average;
  };
  await load("/bare", 1);
  await load("/session", 1);
  const ratios = [];
  for (let round = 0; round < rounds; round += 1) {
    const bare = await load("/bare", seconds);
    ratios.push((await load("/session", seconds)) / bare);
  }
  server.kill("SIGTERM");
  return { ratio: rounded(median(ratios)) };
}
