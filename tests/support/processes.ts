import { spawn, type ChildProcess } from "node:child_process";
import { createServer } from "node:net";
import type { AddressInfo } from "node:net";
import { fileURLToPath } from "node:url";

export const root = fileURLToPath(new URL("../..", import.meta.url));

export interface Finished {
  readonly code: number | null;
  readonly output: string;
  readonly errors: string;
}

export interface Running {
  /** Waits until standard output holds `text`. */
  waitFor(text: string): Promise<string>;
  signal(name: NodeJS.Signals): void;
  readonly finished: Promise<Finished>;
}

/** Runs a script of the repository with this Node, as a user's shell would. */
export function start(
  script: string,
  args: readonly string[] = [],
  parts: { env?: Readonly<Record<string, string>>; input?: string } = {},
): Running {
  const child: ChildProcess = spawn(process.execPath, [script, ...args], {
    cwd: root,
    env: { ...process.env, NO_COLOR: "1", ...parts.env },
    stdio: ["pipe", "pipe", "pipe"],
  });
  let [output, errors] = ["", ""];
  const listeners = new Set<() => void>();
  child.stdout?.on("data", (chunk: Buffer) => {
    output += chunk.toString();
    for (const listener of listeners) listener();
  });
  child.stderr?.on("data", (chunk: Buffer) => (errors += chunk.toString()));
  child.stdin?.end(parts.input ?? "");
  const finished = new Promise<Finished>((resolve) => {
    child.on("close", (code) => resolve({ code, output, errors }));
  });
  return {
    finished,
    signal: (name) => child.kill(name),
    waitFor: (text) =>
      new Promise((resolve, reject) => {
        const look = () => {
          if (output.includes(text)) resolve(output);
        };
        listeners.add(look);
        look();
        void finished.then(() =>
          reject(new RangeError(`ended before it said ${JSON.stringify(text)}:\n${output}${errors}`)),
        );
      }),
  };
}

/** The first of `count` free ports in a row. */
export async function freePorts(count: number): Promise<number> {
  for (;;) {
    const first = await portOf(0);
    try {
      for (let next = 1; next < count; next += 1) await portOf(first + next);
      return first;
    } catch {
      // One of them is taken: look elsewhere.
    }
  }
}

function portOf(port: number): Promise<number> {
  return new Promise((resolve, reject) => {
    const server = createServer();
    server.once("error", reject);
    server.listen(port, "localhost", () => {
      const { port: found } = server.address() as AddressInfo;
      server.close(() => resolve(found));
    });
  });
}
