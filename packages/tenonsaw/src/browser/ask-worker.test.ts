import { afterEach, describe, expect, it, vi } from "vitest";
import { createAsker, endingWith } from "./ask-worker.js";
import { openPageSignIn } from "./page-sign-in.js";
import { holdTokens } from "./page-worker.js";

const ignored = () => undefined;

/** A worker that answers when it is told to. */
function fakeWorker() {
  const posted: { id: number; abort?: true }[] = [];
  const listeners: ((event: { data: unknown }) => void)[] = [];
  const worker = {
    addEventListener: (type: string, listener: (event: { data: unknown }) => void) =>
      type === "message" && listeners.push(listener),
    postMessage: (message: { id: number }) => posted.push(message),
    terminate: () => undefined,
  };
  const tell = (data: unknown) => listeners.forEach((each) => each({ data }));
  return {
    posted,
    tell,
    ask: createAsker(() => worker as never, ignored, ignored),
  };
}

describe("what a page asks its worker", () => {
  it("is not asked where it was given up before, and is told of while it is under way, and not after", async () => {
    const { posted, tell, ask } = fakeWorker();
    const over = new Error("not any more");
    await expect(ask({ do: "now" }, AbortSignal.abort(over))).rejects.toBe(over);
    expect(posted).toEqual([]);
    const ending = new AbortController();
    const [first, second] = [ask({ do: "now" }, ending.signal), ask({ do: "now" }, ending.signal)];
    tell({ id: 1, isHere: true });
    tell({ id: 2, isHere: true });
    tell({ id: 1, value: "tides" });
    expect(await first).toBe("tides");
    ending.abort();
    expect(posted.filter(({ abort }) => abort)).toEqual([{ id: 2, abort: true }]);
    tell({ id: 2, problem: { code: "server.app-failed" }, rejected: "AbortError" });
    await expect(second).rejects.toMatchObject({ name: "AbortError" });
  });

  it("is named where there is none, or no page to have one", async () => {
    const none = { code: "page.worker-silent", because: "none" };
    for (const make of [undefined, "./tokens.js", () => new URL("https://ferrywell.example")] as never[])
      await expect(createAsker(make, ignored, ignored)({ do: "now" })).rejects.toMatchObject({
        problem: none,
      });
    // One that is not where workers are called.
    expect(() => holdTokens({} as never)).toThrow("page.holder-misplaced");
    const nowhere = { code: "page.insecure-origin", because: "no-page" };
    for (const options of [undefined, { worker: () => undefined }] as never[])
      await expect(openPageSignIn(options)).rejects.toMatchObject({ problem: nowhere });
  });

  it("has a body that ends with the signal, and whoever sends it on stops", async () => {
    let given: unknown;
    const endless = new ReadableStream<Uint8Array>({
      pull: (controller) => controller.enqueue(new Uint8Array(8)),
      cancel: (reason) => void (given = reason),
    });
    const ending = new AbortController();
    const reader = (endingWith(endless, ending.signal) as ReadableStream<Uint8Array>).getReader();
    expect((await reader.read()).value).toHaveLength(8);
    const over = new Error("gone");
    ending.abort(over);
    const drained = async () => {
      while (!(await reader.read()).done);
    };
    await expect(drained()).rejects.toBe(over);
    await expect.poll(() => given).toBe(over);
    expect(endingWith(null, ending.signal)).toBeNull();
  });
});

describe("a page that is opened twice at once", () => {
  afterEach(() => vi.unstubAllGlobals());

  /** A page that a provider's answer has come to, and what its workers are asked. */
  function answered(state: string, where: string) {
    const asked: string[] = [];
    const search = `?code=c&state=${state}`;
    const origin = "https://board.example";
    const place = { origin, href: `${origin}/${search}`, pathname: "/", search, hash: "" };
    const page = Object.assign(new EventTarget(), { visibilityState: "visible" });
    vi.stubGlobal("isSecureContext", true);
    vi.stubGlobal("document", page);
    vi.stubGlobal("window", page);
    vi.stubGlobal("location", place);
    vi.stubGlobal("history", {
      replaceState: (_: unknown, __: unknown, path: string) => (place.href = `${origin}${path}`),
    });
    const now = { now: { kind: "nobody" }, wasSomebody: false };
    const answers: Record<string, unknown> = {
      start: { ...now, name: state, redirectUri: `${origin}/` },
      now,
      whereOf: where,
      finish: { kind: "declined", returnTo: "/river", isSilent: false },
    };
    const worker = () => {
      const made = new EventTarget();
      const postMessage = ({ id, call }: { id: number; call: { do: string } }) => {
        asked.push(call.do);
        const told = Object.assign(new Event("message"), { data: { id, value: answers[call.do] } });
        queueMicrotask(() => made.dispatchEvent(told));
      };
      return Object.assign(made, { postMessage, terminate: ignored }) as never;
    };
    return { asked, place, open: () => openPageSignIn({ worker }) };
  }

  it("takes its answer once, and comes back once", async () => {
    const { asked, place, open } = answered("one", "this window");
    const [first, second] = await Promise.all([open(), open()]);
    expect([first.arrival, second.arrival]).toEqual([{ kind: "declined" }, undefined]);
    expect(asked.filter((each) => each === "finish")).toHaveLength(1);
    expect(place.href).toBe("https://board.example/river");
    for (const each of [first, second]) each.close();
  });

  it("goes on neither time where it is the end of a trip in a frame", async () => {
    const { open } = answered("two", "frame.7");
    const opened = vi.fn();
    void open().then(opened);
    void open().then(opened);
    // Longer than another page has to say that it has heard.
    await new Promise((resolve) => setTimeout(resolve, 1500));
    expect(opened).not.toHaveBeenCalled();
  });
});
