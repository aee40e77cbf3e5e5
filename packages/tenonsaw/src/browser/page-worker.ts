import { createPlatform } from "../platform/index.js";
import { fail, isProblem, ProblemError, type Problem } from "../problem/index.js";
import { errorOf } from "../trace/index.js";
import { createBoundEngine } from "./bound-engine.js";
import { openBox } from "./box.js";
import { createSealedBox } from "./sealing.js";
import { createTokenHolder, type PageClientSettings, type TokenHolder } from "./token-holder.js";
import type { Asked, FetchAnswer, FetchAsked, Told, WorkerCall } from "./worker-calls.js";

export type { HeldApi, PageClientSettings } from "./token-holder.js";

/** Of a worker: what TypeScript's library for pages says of `self` is about windows. */
interface WorkerScope {
  postMessage(message: Told, transfer?: readonly Transferable[]): void;
  addEventListener(type: "message", listener: (event: MessageEvent<Asked>) => void): void;
}

/**
 * Makes a worker of its own the keeper of a page's tokens: `new Worker(new URL("./tokens.js", import.meta.url), { type: "module" })`,
 * where tokens.js calls this and nothing else. Which provider it is and where tokens may go stands here, where no script of the
 * page can change it. What is wrong with the settings the page is told when it asks: openPageSignIn rejects with it.
 *
 * @throws page.holder-misplaced
 */
export function holdTokens(settings: PageClientSettings): void {
  if ("document" in globalThis || !("postMessage" in globalThis)) fail("page.holder-misplaced");
  const worker = self as unknown as WorkerScope;
  const { issuer, clientId } = (settings as Partial<PageClientSettings> | undefined)?.provider ?? {};
  const name = `tenonsaw ${String(issuer)} ${String(clientId)}`;
  // What the page asks for before it is open waits.
  const opening = openHolder(settings, name, worker);
  opening.catch(() => undefined);
  const calls = new Map<number, AbortController>();
  worker.addEventListener("message", ({ data }) => {
    const { id } = data;
    if ("abort" in data) {
      calls.get(id)?.abort();
      return;
    }
    // That somebody is here, before anything is done.
    worker.postMessage({ id, isHere: true });
    const ending = new AbortController();
    calls.set(id, ending);
    opening
      .then((holder) => answer(holder, data, ending.signal, name))
      .then(
        (value) => tell(worker, id, value),
        (error: unknown) => worker.postMessage({ id, ...failureOf(error) }),
      )
      .finally(() => calls.delete(id));
  });
}

async function openHolder(
  settings: PageClientSettings,
  name: string,
  worker: WorkerScope,
): Promise<TokenHolder> {
  const box = await openBox(name);
  const lockNamed =
    (what: string) =>
    async <Result>(work: () => Promise<Result>) =>
      navigator.locks.request(`${name} ${what}`, work) as Promise<Result>;
  const { subtle } = crypto;
  return createTokenHolder(settings, {
    platform: createPlatform({ crypto: createBoundEngine(subtle, box, lockNamed("key")) }),
    kept: createSealedBox(subtle, box, lockNamed("key")),
    origin: self.location.origin,
    lock: lockNamed("tokens"),
    onChange: (change) => worker.postMessage(change),
  });
}

/** What a page may ask for. A token is in none of the answers. */
async function answer(
  holder: TokenHolder,
  { call }: Extract<Asked, { call: WorkerCall }>,
  signal: AbortSignal,
  name: string,
): Promise<unknown> {
  switch (call.do) {
    case "start":
      return { name, redirectUri: holder.redirectUri, ...(await holder.now()) };
    case "now":
      return holder.now();
    case "begin":
      return holder.begin(call.wish);
    case "whereOf":
      return holder.whereOf(call.url);
    case "finish":
      return holder.finish(call.url);
    case "signOut":
      return holder.signOut();
    case "drop":
      holder.drop();
      return undefined;
    case "fetch":
      return callApi(holder, call.request, signal);
  }
}

async function callApi(
  holder: TokenHolder,
  { api, path, method, headers, body, madeFor }: FetchAsked,
  signal: AbortSignal,
): Promise<FetchAnswer> {
  const init = { method, headers: [...headers], signal, ...(body && { body }) };
  const answered = await holder.fetch(api, path, init, madeFor);
  return {
    status: answered.status,
    statusText: answered.statusText,
    headers: [...answered.headers],
    body: answered.body,
  };
}

/** Streams go over where the browser can hand them on; otherwise what they hold does. */
function tell(worker: WorkerScope, id: number, value: unknown): void {
  const body = (value as FetchAnswer | undefined)?.body;
  if (!(body instanceof ReadableStream)) {
    worker.postMessage({ id, value });
    return;
  }
  try {
    worker.postMessage({ id, value }, [body]);
  } catch {
    void new Response(body)
      .arrayBuffer()
      .then((buffer) => worker.postMessage({ id, value: { ...(value as FetchAnswer), body: buffer } }));
  }
}

/** That a call was given up is told as `fetch` does; what nothing was made for, in full where only this browser's console has it. */
function failureOf(error: unknown): { readonly problem: Problem; readonly rejected?: string } {
  if (isProblem(error)) return { problem: error.problem };
  const { name, message } = errorOf(error);
  const { problem } = new ProblemError("page.worker-failed", { received: name });
  if (name === "AbortError") return { problem, rejected: name };
  console.error(error instanceof Error ? error : message);
  return { problem };
}
