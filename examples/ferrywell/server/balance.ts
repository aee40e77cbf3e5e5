import { fork, type ChildProcess } from "node:child_process";
import { once } from "node:events";
import { createServer, request as sendRequest } from "node:http";
import { fileURLToPath } from "node:url";
import type { Ferrywell, FerrywellPlace } from "./serve-ferrywell.js";
import { listen } from "./serve-ferrywell.js";

/** Serves Ferrywell by several processes in turn: the smallest balancer there is, for the demo only. */
export async function serveByProcesses(
  port: number,
  count: number,
  place: Omit<FerrywellPlace, "origin" | "number">,
): Promise<Ferrywell> {
  const origin = `http://localhost:${port}`;
  const children: ChildProcess[] = [];
  const targets: string[] = [];
  for (let number = 1; number <= count; number += 1) {
    const child = fork(fileURLToPath(new URL("process.js", import.meta.url)), {
      env: { ...process.env, FERRYWELL_PLACE: JSON.stringify({ ...place, origin, number }) },
    });
    children.push(child);
    const [message] = (await Promise.race([once(child, "message"), once(child, "exit")])) as [
      { readonly origin: string } | number | null,
    ];
    if (typeof message !== "object" || message === null) {
      for (const each of children) each.kill();
      throw new RangeError(`Process ${number} of Ferrywell did not start.`);
    }
    targets.push(message.origin);
  }
  let turn = 0;
  const server = createServer((incoming, outgoing) => {
    turn = (turn + 1) % targets.length;
    const { hostname, port: target } = new URL(targets[turn] ?? origin);
    const { method, url, headers } = incoming;
    // The Host header stays: behind the balancer the app is where browsers see it.
    const passed = sendRequest({ hostname, port: target, method, path: url, headers }, (answer) => {
      outgoing.writeHead(answer.statusCode ?? 502, answer.rawHeaders);
      answer.pipe(outgoing);
    });
    passed.on("error", () => outgoing.headersSent || outgoing.writeHead(502).end());
    incoming.pipe(passed);
  });
  await listen(server, port);
  return {
    origin,
    async stop() {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
      await Promise.all(
        children.map((child) => {
          const gone = once(child, "exit");
          child.disconnect();
          return gone;
        }),
      );
    },
  };
}
