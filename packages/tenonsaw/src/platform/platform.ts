import { createHostEngine } from "#host-engine";
import type * as NodeAsyncHooks from "node:async_hooks";
import type * as NodeFiles from "node:fs";
import type { Bytes, CryptoEngine } from "./crypto-engine.js";
import { host } from "./host.js";

/**
 * Everything that comes from outside the computation. Tests and unusual runtimes hand in their own parts;
 * nothing else in the library reads a clock, opens a connection or draws a random number.
 */
export interface Platform {
  /** Seconds since the epoch, with fraction. */
  readonly now: () => number;
  /** Seconds on a clock that nobody sets, so that it never steps: what lasts is measured by it. */
  readonly monotonic: () => number;
  readonly fetch: (url: string, init: RequestInit) => Promise<Response>;
  readonly randomBytes: (length: number) => Bytes;
  readonly crypto: CryptoEngine;
  /** A signal that aborts after so many seconds; a process that stood still reads first what has come meanwhile. */
  readonly deadline: (seconds: number) => AbortSignal;
  /** Waits so many seconds, or until the signal aborts: 24 days at the most. */
  readonly wait: (seconds: number, signal?: AbortSignal) => Promise<void>;
  /** A line for whoever runs this: on standard error in Node, in the console elsewhere. */
  readonly print: (line: string) => void;
  /** Does `work`, of which `subject` is what it is about, with all that it begins; where the runtime has that. */
  readonly follow: <Result>(subject: object, work: () => Result) => Result;
  /** What the work at hand is about, where that is known. */
  readonly followed: () => object | undefined;
  /** An environment variable, where there are such. */
  readonly environment: (name: string) => string | undefined;
  /** A file's text, where there are files and it can be read. */
  readonly readFile: (path: string) => string | undefined;
}

/** The runtime's own. */
export const usualFetch: Platform["fetch"] = (url, init) => fetch(url, init);

/** The platform this runs on, with any part replaced. */
export function createPlatform(parts: Partial<Platform> = {}): Platform {
  const subjects = subjectsHere();
  const own = {};
  return {
    follow: (subject, work) =>
      subjects ? subjects.run(new Map(subjects.getStore()).set(own, subject), work) : work(),
    followed: () => subjects?.getStore()?.get(own),
    print: (line) => console.error(line),
    environment: (name) => host().env?.[name],
    readFile: readTextFile,
    now: () => Date.now() / 1000,
    monotonic: () => performance.now() / 1000,
    fetch: usualFetch,
    randomBytes: (length) => crypto.getRandomValues(new Uint8Array(length)),
    crypto: parts.crypto ?? createHostEngine(),
    wait,
    deadline,
    // What is left open, as by a variable without a value, is not taken for a part.
    ...Object.fromEntries(Object.entries<unknown>(parts).filter(([, part]) => part !== undefined)),
  };
}

/** What work is about, by whose work it is. */
type Subjects = NodeAsyncHooks.AsyncLocalStorage<ReadonlyMap<object, object>>;
let shared: Subjects | undefined;

/** One for all of this process: Node 20 goes through all that there ever were whenever a promise is made. */
function subjectsHere(): Subjects | undefined {
  const hooks = host().getBuiltinModule?.("node:async_hooks") as typeof NodeAsyncHooks | undefined;
  return hooks && (shared ??= new hooks.AsyncLocalStorage());
}

function readTextFile(path: string): string | undefined {
  const files = host().getBuiltinModule?.("node:fs") as typeof NodeFiles | undefined;
  try {
    return files?.readFileSync(path, "utf8");
  } catch {
    return undefined;
  }
}

/** Timers count no further (HTML Standard 8.6), and take what is more for nothing. */
const longestMilliseconds = 2 ** 31 - 1;

/** A process that stood still finds its timers due before it has read the answers that lie ready: they are read first. */
export const readingSeconds = 0.1;

const timers = new WeakMap<AbortSignal, () => void>();

function deadline(seconds: number): AbortSignal {
  const controller = new AbortController();
  const reading = Math.min(readingSeconds, seconds / 2);
  const end = () => controller.abort(new DOMException(`nothing within ${seconds} s`, "TimeoutError"));
  let timer = later(seconds - reading, () => {
    timer = later(reading, end);
  });
  timers.set(controller.signal, () => clearTimeout(timer));
  return controller.signal;
}

/** A deadline that was met takes no memory any more. */
export function letGo(signal: AbortSignal): void {
  timers.get(signal)?.();
}

/** Keeps no process from ending. */
function later(seconds: number, work: () => void): ReturnType<typeof setTimeout> {
  const timer = setTimeout(work, Math.min(seconds * 1000, longestMilliseconds));
  (timer as { unref?: () => void }).unref?.();
  return timer;
}

function wait(seconds: number, signal?: AbortSignal): Promise<void> {
  return new Promise((resolve) => {
    const end = () => {
      clearTimeout(timer);
      signal?.removeEventListener("abort", end);
      resolve();
    };
    const timer = setTimeout(end, Math.min(seconds * 1000, longestMilliseconds));
    signal?.addEventListener("abort", end);
    if (signal?.aborted === true) end();
  });
}
