import { spawn, type ChildProcess } from "node:child_process";
import { isAbsolute, join } from "node:path";
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
  parts: { env?: Readonly<Record<string, string>>; input?: string; cwd?: string } = {},
): Running {
  const child: ChildProcess = spawn(
    process.execPath,
    [isAbsolute(script) ? script : join(root, script), ...args],
    {
      cwd: parts.cwd ?? root,
      env: { ...process.env, NO_COLOR: "1", ...parts.env },
      stdio: ["pipe", "pipe", "pipe"],
    },
  );
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
