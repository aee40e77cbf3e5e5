import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { SessionNow } from "../session/index.js";
import { followSession, type FollowedSession } from "./follow-session.js";

/** The one session that there is, and what a page asks for it. */
let server: SessionNow | "away" | "slow";
let asked = 0;
let open: FollowedSession[] = [];
const here = new EventTarget() as EventTarget & { visibilityState: string };
const windowHere = new EventTarget();
let streams: FakeStream[] = [];

class FakeStream extends EventTarget {
  static readonly CLOSED = 2;
  readyState = 1;
  readonly url: string;
  constructor(url: string) {
    super();
    this.url = url;
    streams.push(this);
  }
  close(): void {
    this.readyState = FakeStream.CLOSED;
  }
}

beforeEach(() => {
  vi.useFakeTimers();
  [asked, streams, open] = [0, [], []];
  here.visibilityState = "visible";
  vi.stubGlobal("document", here);
  vi.stubGlobal("window", windowHere);
  vi.stubGlobal("location", { search: "" });
  vi.stubGlobal("EventSource", FakeStream);
  vi.spyOn(AbortSignal, "timeout").mockImplementation((milliseconds) => {
    const ending = new AbortController();
    setTimeout(() => ending.abort(), milliseconds);
    return ending.signal;
  });
  vi.stubGlobal("fetch", (_: string, { signal }: RequestInit) => {
    asked += 1;
    if (server === "away") return Promise.reject(new TypeError("Failed to fetch"));
    if (server === "slow")
      return new Promise((_resolve, reject) =>
        signal?.addEventListener("abort", () => reject(new Error("late"))),
      );
    return Promise.resolve(Response.json(server));
  });
});
afterEach(() => {
  for (const each of open) each.close();
  vi.useRealTimers();
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

const maren: SessionNow = { signedIn: true, tag: "m", person: { name: "Maren Holt" }, endsInSeconds: 3600 };
const pass = (seconds: number) => vi.advanceTimersByTimeAsync(seconds * 1000);
const show = async (how: "visible" | "hidden") => {
  here.visibilityState = how;
  here.dispatchEvent(new Event("visibilitychange"));
  await pass(0);
};

async function follow(first?: SessionNow) {
  const seen: string[] = [];
  const followed = followSession(first ? { first } : {});
  open.push(followed);
  followed.subscribe((now) => seen.push(now.kind === "somebody" ? (now.person.name ?? "") : now.kind));
  await pass(0);
  return { followed, seen };
}

describe("following the session", () => {
  it("asks once, then every half a minute in front, and never in the background", async () => {
    server = maren;
    const { followed, seen } = await follow();
    expect(followed.now).toEqual({ kind: "somebody", person: { name: "Maren Holt" } });
    expect(asked).toBe(1);
    await pass(61);
    expect(asked).toBe(3);
    await show("hidden");
    await pass(1800);
    expect(asked).toBe(3);
    await show("visible");
    expect([asked, seen]).toEqual([4, ["Maren Holt"]]);
  });

  it("asks when the session should be over, however this machine's clock is set, also in the background", async () => {
    server = { ...maren, endsInSeconds: 60 };
    const { seen } = await follow();
    await show("hidden");
    vi.setSystemTime(Date.now() + 86_400_000);
    server = { signedIn: false };
    await pass(50);
    expect(seen).toEqual(["Maren Holt"]);
    await pass(12);
    expect(seen).toEqual(["Maren Holt", "nobody"]);
  });

  it("is told where the server offers it, on one connection and only in front, and asks seldom then", async () => {
    server = { ...maren, events: "/sign-in/session/events" };
    const { seen } = await follow();
    expect(streams.map(({ url }) => url)).toEqual(["/sign-in/session/events"]);
    await pass(120);
    expect(asked).toBe(1);
    server = { signedIn: false };
    streams[0]?.dispatchEvent(new Event("change"));
    await pass(0);
    expect(seen).toEqual(["Maren Holt", "nobody"]);
    server = { ...maren, events: "/sign-in/session/events" };
    await show("hidden");
    expect(streams[0]?.readyState).toBe(FakeStream.CLOSED);
    await show("visible");
    // One that the server has closed for good is not opened again until it is offered again.
    const last = streams.at(-1);
    last?.close();
    last?.dispatchEvent(new Event("error"));
    await pass(0);
    expect(seen.at(-1)).toBe("Maren Holt");
  });

  it("goes on where a listener of the page's own throws, and lets the page hear of it", async () => {
    server = maren;
    const heard: unknown[] = [];
    vi.stubGlobal("reportError", (error: unknown) => heard.push(error));
    const followed = followSession();
    open.push(followed);
    const broken = new Error("a listener of the page's");
    followed.subscribe(() => {
      throw broken;
    });
    const seen: string[] = [];
    followed.subscribe(({ kind }) => seen.push(kind));
    await pass(0);
    server = { signedIn: false };
    await pass(31);
    expect(seen).toEqual(["somebody", "nobody"]);
    expect(heard).toEqual([broken, broken]);
  });

  it.each(["away", "slow"] as const)(
    "does not take a server that is %s for a sign-out, and says so at first",
    async (how) => {
      server = how;
      const { followed, seen } = await follow();
      await pass(11);
      expect(followed.now).toEqual({ kind: "unknown", problem: "platform.unreachable" });
      server = maren;
      await pass(6);
      expect(seen).toEqual(["unknown", "Maren Holt"]);
      server = how;
      await pass(200);
      expect(seen).toEqual(["unknown", "Maren Holt"]);
    },
  );

  it("says so where a host has opened the page, and it names no launch: it would be nobody's", () => {
    const warn = vi.spyOn(console, "warn").mockReturnValue(undefined);
    open.push(followSession());
    vi.stubGlobal("location", { search: "?launched=a" });
    open.push(followSession({ launch: "a" }));
    expect(warn).not.toHaveBeenCalled();
    open.push(followSession());
    expect(warn.mock.calls.join()).toContain("page.launch-unnamed");
  });

  it("asks nothing at first where it was told, forgets what the back button brings, and agrees between tabs", async () => {
    const { followed, seen } = await follow(maren);
    expect([asked, followed.now.kind, followed.first]).toEqual([0, "somebody", followed.now]);
    vi.useRealTimers();
    server = { signedIn: false };
    const other = followSession();
    open.push(other);
    await expect.poll(() => seen).toEqual(["nobody"]);
    server = maren;
    windowHere.dispatchEvent(Object.assign(new Event("pageshow"), { persisted: true }));
    expect(seen).toEqual(["nobody", "unknown", "unknown"].slice(0, seen.length));
    await expect.poll(() => seen.at(-1)).toBe("Maren Holt");
    expect(seen).toContain("unknown");
  });

  it.each([
    ["no JSON", "nonsense"],
    ["another answer", { signedIn: "yes" }],
    ["a list", []],
  ])("takes %s for another server's, and says so", async (_, answer) => {
    const warn = vi.spyOn(console, "warn").mockReturnValue();
    server = answer as unknown as SessionNow;
    const { followed } = await follow();
    expect(followed.now).toEqual({ kind: "unknown", problem: "page.server-elsewhere" });
    expect(warn.mock.calls.join()).toContain("page.server-elsewhere: status 200");
  });
});
