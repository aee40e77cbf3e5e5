import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Problem } from "../problem/index.js";
import type { ProblemAtHand } from "./askings.js";
import { createPageSession, type ServedPageSession } from "./page-session.js";

/** What the app's server answers, by path; and what it was asked. */
let answers: Record<string, () => Response | Promise<Response>>;
let asked: { readonly url: string; readonly init: RequestInit }[] = [];
let me: ServedPageSession;
const page = Object.assign(new EventTarget(), { visibilityState: "visible" });

beforeEach(() => {
  asked = [];
  answers = {};
  vi.stubGlobal("document", page);
  const here = Object.assign(new EventTarget(), { open: () => null });
  vi.stubGlobal("window", Object.assign(here, { top: here }));
  vi.stubGlobal("location", {
    origin: "https://ferrywell.example",
    pathname: "/tides",
    search: "",
    hash: "",
    assign: (url: string) => asked.push({ url, init: { method: "GO" } }),
  });
  vi.stubGlobal("fetch", (url: string, init: RequestInit) => {
    if (url !== "/sign-in/session") asked.push({ url, init });
    const answer = answers[url.split("?")[0] ?? ""];
    return Promise.resolve(answer?.() ?? Response.json({ signedIn: true, tag: "m" }));
  });
  me = createPageSession({ first: { signedIn: true, tag: "m", person: { name: "Maren Holt" } } });
});
afterEach(() => {
  me.close();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const problemOf = (work: Promise<unknown>) =>
  work.then(
    () => undefined,
    (error: unknown) => (error as { problem?: Problem }).problem,
  );
const ask = { provider: "quayside", scope: "slots.write" };
const refused = () =>
  Response.json(
    { title: "Not allowed yet", status: 403, code: "connection.scope-insufficient", ask },
    { status: 403, headers: { "tenonsaw-problem": "connection.scope-insufficient" } },
  );

describe("a page's own object", () => {
  it("calls nothing but the relay, whatever the path says", async () => {
    for (const path of ["/../../out", "..%2f../out", "/tides/../../../out", "\\..\\..\\out"]) {
      const problem = await problemOf(me.fetch("tidebook", path, { method: "POST" }));
      if (problem) expect(problem.code).toBe("connection.other-origin");
    }
    for (const { url } of asked) expect(url).toMatch(/^\/sign-in\/relay\/tidebook\//);
    asked = [];
    await me.fetch("../out", "/x?a=1", { account: "Zoë & Co" });
    expect(asked[0]?.url).toBe("/sign-in/relay/..%2Fout/x?a=1");
    const headers = new Headers(asked[0]?.init.headers);
    expect([headers.get("tenonsaw-relay"), headers.get("tenonsaw-account")]).toEqual([
      "1",
      "Zo%C3%AB%20%26%20Co",
    ]);
  });

  it("calls nothing without a path, or with a body that cannot be sent", async () => {
    asked = [];
    const codes = [
      await problemOf(me.fetch("/slots", undefined as never)),
      await problemOf(me.fetch("tidebook", "/slots", { method: "POST", body: { boat: "Heron" } as never })),
      await problemOf(me.fetch("tidebook", "/slots", { body: "Heron" })),
      await problemOf(me.fetch("tidebook", "/slots", null as never)),
    ].map((problem) => [problem?.code, problem?.because]);
    expect(codes).toEqual([
      ["connection.other-origin", "no-path"],
      ["connection.body-unusable", undefined],
      ["connection.body-unusable", "without-method"],
      ["connection.call-unusable", "options"],
    ]);
    expect(asked).toEqual([]);
  });

  it("fails with the way out that the server tells, and never with one that an API does", async () => {
    answers["/sign-in/relay/tidebook/slots"] = refused;
    expect(await problemOf(me.fetch("tidebook", "/slots"))).toMatchObject({
      code: "connection.scope-insufficient",
      title: "Not allowed yet",
      status: 403,
      ask,
    });
    answers["/sign-in/relay/tidebook/slots"] = () =>
      Response.json({ code: "connection.none", ask }, { status: 403 });
    expect((await me.fetch("tidebook", "/slots")).status).toBe(403);
  });

  it("is told in full while it is developed, and asks for what an error carries as for what its problem does", async () => {
    const more = { because: "not-theirs", here: "Take the ID from the list.", expected: "an ID", station: 7 };
    answers["/sign-in/relay/tidebook/slots"] = () =>
      Response.json(
        { code: "connection.none", status: 403, ask, ...more },
        { status: 403, headers: { "tenonsaw-problem": "connection.none" } },
      );
    const { station: _, ...told } = more;
    const error: unknown = await me.fetch("tidebook", "/slots").catch((thrown: unknown) => thrown);
    expect(error).toMatchObject({ problem: { ...told, station: "connection" } });
    for (const way of [error, (error as { problem: unknown }).problem]) {
      asked = [];
      void me.ask(way as ProblemAtHand);
      await expect.poll(() => asked.at(-1)?.url).toMatch(/\/sign-in\/to\/quayside.*scope=slots.write/);
    }
  });

  it.each<[string, () => Promise<unknown>]>([
    ["a listener's event in place of a name", () => me.signIn(new Event("click") as never)],
    ["the wish in place of the name", () => me.connect({ in: "pop-up" } as never)],
    ["a place that there is not", () => me.signIn("quayside", { in: "popup" as never })],
    ["a wish that there is not", () => me.signIn("quayside", { maxage: 300 } as never)],
    ["a wish that there is not, of an account", () => me.connect("ledgerhouse", { popup: true } as never)],
    ["a way out of another name", () => me.signOut({ everwhere: true } as never)],
    ["nothing that waits", async () => me.ask(me.asking as never)],
    ["an event in place of a problem", async () => me.ask({ isTrusted: true } as never)],
  ])("goes nowhere with %s", async (_, go) => {
    asked = [];
    expect(await problemOf(go())).toMatchObject({ code: "page.trip-unclear" });
    expect(asked).toEqual([]);
  });

  it.each([
    [{ baseUrl: "/sign-in" }, '"baseUrl"'],
    [{ basePath: "sign-in" }, '"sign-in"'],
    [{ basePath: "/sign-in/" }, '"/sign-in/"'],
    [{ basePath: "//elsewhere.example/sign-in" }, "elsewhere"],
  ])("is not made with %j", (options, received) => {
    expect(() => createPageSession(options as never)).toThrow(received);
  });

  it("is left once, shows neither a person nor a button on the way, and is somebody's again where it fails", async () => {
    answers["/sign-in/out"] = () => Response.json({ title: "Too busy", status: 503 }, { status: 503 });
    expect((await problemOf(me.signOut()))?.title).toBe("Too busy");
    expect(me.now.kind).toBe("somebody");
    vi.useFakeTimers();
    answers["/sign-in/out"] = () => Response.json({ goTo: "https://quayside.example/end" });
    answers["/sign-in/session"] = () => Response.json({ signedIn: false });
    asked = [];
    const done = Promise.all([me.signOut(), me.signOut()]);
    await vi.advanceTimersByTimeAsync(100);
    expect(asked.map(({ url }) => url)).toEqual(["/sign-in/out", "https://quayside.example/end"]);
    expect(me.now).toEqual({ kind: "unknown" });
    // The browser stays, for whatever reason.
    await vi.advanceTimersByTimeAsync(10_000);
    await done;
    expect(me.now).toEqual({ kind: "nobody" });
  });

  it("waits for the person once for all that need the same, and fails where they do not agree", async () => {
    let isAllowed = false;
    answers["/sign-in/relay/tidebook/slots"] = () => (isAllowed ? Response.json([]) : refused());
    const seen: (string | undefined)[] = [];
    me.subscribe(() => seen.push(me.asking?.problem.ask?.scope));
    const calls = Promise.all([1, 2, 3].map(() => me.fetch("tidebook", "/slots", { wait: true })));
    await expect.poll(() => me.asking).toBeDefined();
    expect(seen).toEqual(["slots.write"]);
    me.asking?.refuse();
    expect(await problemOf(calls)).toMatchObject({ code: "connection.scope-insufficient" });
    expect([me.asking, seen]).toEqual([undefined, ["slots.write", undefined]]);
    const again = me.fetch("tidebook", "/slots", { wait: true });
    await expect.poll(() => me.asking).toBeDefined();
    // Where no window opens, this one goes there.
    const going = me.asking?.agree();
    await expect.poll(() => asked.at(-1)?.init.method).toBe("GO");
    expect(asked.at(-1)?.url).toBe("/sign-in/to/quayside?returnTo=%2Ftides&scope=slots.write");
    isAllowed = true;
    window.dispatchEvent(new Event("pageshow"));
    expect(await going).toEqual({ kind: "closed" });
    me.asking?.refuse();
    await again.catch(() => undefined);
    isAllowed = false;
    // Who gives a call up waits no longer, and is not asked for it.
    const ending = new AbortController();
    const [first, second] = [0, 1].map(() =>
      me.fetch("tidebook", "/slots", { wait: true, signal: ending.signal }),
    );
    const third = me.fetch("tidebook", "/slots", { wait: true });
    await expect.poll(() => me.asking).toBeDefined();
    ending.abort(new Error("gone"));
    await expect(first).rejects.toThrow("gone");
    await expect(second).rejects.toThrow("gone");
    expect(me.asking).toBeDefined();
    me.asking?.refuse();
    expect(await problemOf(third)).toMatchObject({ ask });
    const fourth = me.fetch("tidebook", "/slots", { wait: true, signal: AbortSignal.timeout(20) });
    await expect(fourth).rejects.toMatchObject({ name: "TimeoutError" });
    expect(me.asking).toBeUndefined();
    // What is sent as a stream cannot be sent twice: it does not wait.
    const init = { wait: true, method: "POST", body: new ReadableStream() };
    expect(await problemOf(me.fetch("tidebook", "/slots", init))).toMatchObject({ ask });
  });

  it.each([
    ["a page in place of JSON", () => new Response("<p>", { status: 502 }), "platform.unreachable"],
    ["another server's page", () => new Response("<p>"), "page.server-elsewhere"],
    [
      "nobody any more",
      () => Response.json({ signIn: "/sign-in" }, { status: 401 }),
      "session.not-signed-in",
    ],
    ["no answer", () => Promise.reject(new TypeError("Failed to fetch")), "platform.unreachable"],
    [
      "a code that is none",
      () => Response.json({ kind: "failed", problem: { code: "<b>" } }, { status: 500 }),
      "platform.unreachable",
    ],
    [
      "too many",
      () =>
        Response.json(
          { kind: "failed", problem: { code: "server.too-many-requests" } },
          { status: 429, headers: { "retry-after": "7" } },
        ),
      "server.too-many-requests",
    ],
  ])("says what is wrong where the server answers with %s", async (_, answer, code) => {
    answers["/sign-in/accounts"] = answer;
    const problem = await problemOf(me.accounts());
    expect(problem?.code).toBe(code);
    if (code === "server.too-many-requests") expect(problem?.retryAfterSeconds).toBe(7);
  });

  it("goes nowhere, and shows nothing, by an answer that is another server's", async () => {
    asked = [];
    for (const told of [{}, { goTo: 7 }, [], { providers: {} }]) {
      for (const path of ["", "/out", "/accounts", "/connect/quayside"])
        answers[`/sign-in${path}`] = () => Response.json(told);
      for (const work of [
        () => me.signOut(),
        () => me.connect("quayside"),
        () => me.accounts(),
        () => me.providers(),
      ])
        expect((await problemOf(work()))?.code).toBe("page.server-elsewhere");
    }
    expect(asked.filter(({ init }) => init.method === "GO")).toEqual([]);
  });

  it("shows that nobody is signed in before it says so of what was asked", async () => {
    answers["/sign-in/accounts"] = () => Response.json({ signIn: "/sign-in" }, { status: 401 });
    answers["/sign-in/session"] = () => Response.json({ signedIn: false });
    const shown = me.accounts().catch(() => me.now.kind);
    expect(await shown).toBe("nobody");
  });

  it.each(["no answer", "half of one"])(
    "tells a page that its browser has begun to leave nothing of %s, until it is seen to stay",
    async (came) => {
      vi.useFakeTimers();
      answers["/sign-in/accounts"] = () => {
        window.dispatchEvent(new Event("beforeunload"));
        const cut = new ReadableStream({ start: (part) => part.error(new TypeError("cut off")) });
        return came === "no answer" ? Promise.reject(new TypeError("cut off")) : new Response(cut);
      };
      let said: string | undefined;
      void problemOf(me.accounts()).then((problem) => (said = problem?.code));
      await vi.advanceTimersByTimeAsync(9000);
      expect(said).toBeUndefined();
      await vi.advanceTimersByTimeAsync(2000);
      expect(said).toBeDefined();
    },
  );

  it("signs nobody in in a frame of another site, and says why", async () => {
    vi.stubGlobal(
      "window",
      Object.assign(new EventTarget(), { top: { location: { origin: "https://club.example" } } }),
    );
    expect(await problemOf(me.signIn("quayside"))).toMatchObject({ code: "page.in-foreign-frame" });
  });
});
