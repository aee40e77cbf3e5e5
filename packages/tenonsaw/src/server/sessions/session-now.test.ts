import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createVisitor, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { startApp, type App } from "../../../../../tests/support/start-app.js";
import type { SessionNow, SignInSettings } from "../index.js";

let practice: Practice;
let app: App;
let visitor: Visitor;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
});
afterAll(() => practice.stop());
beforeEach(() => {
  visitor = createVisitor();
});
afterEach(() => app.stop());

async function signIn(settings: Partial<SignInSettings> = {}): Promise<void> {
  visitor = createVisitor();
  app = await startApp(practice, settings);
  await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
  await visitor.press("Maren");
  await visitor.press("Yes, allow");
}
const now = async () => (await (await visitor.fetch(`${app.origin}/sign-in/session`)).json()) as SessionNow;
const events = (signal?: AbortSignal) =>
  visitor.fetch(`${app.origin}/sign-in/session/events`, signal ? { signal } : {});

describe("what a page may know of its session", () => {
  it("is the person's name and no more unless the settings say so, by the address and by the call", async () => {
    await signIn();
    const told = await now();
    expect(told).toEqual({
      signedIn: true,
      provider: "quayside",
      person: { name: "Maren Holt" },
      tag: expect.stringMatching(/^[\w-]{16}\.[\w-]{8}$/) as string,
      personTag: expect.stringMatching(/^[\w-]{22}$/) as string,
      endsInSeconds: expect.any(Number) as number,
    });
    expect(604_800 - (told.endsInSeconds ?? 0)).toBeLessThan(900);
    const cookie = `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
    expect(await app.signIn.sessionNow(new Request(app.origin, { headers: { cookie } }))).toEqual({
      ...told,
      endsInSeconds: expect.any(Number) as number,
    });
    expect(await app.signIn.sessionNow(new Request(app.origin))).toEqual({ signedIn: false });
    await app.stop();
    await signIn({ toldToPages: ["id", "email", "claims"] });
    expect((await now()).person).toEqual({
      id: expect.any(String) as string,
      email: "maren.holt@ferrywell.example",
      claims: {},
    });
  });

  it("is another one as soon as anything of it that a page shows is", async () => {
    await signIn({ toldToPages: ["name", "claims"] });
    const before = await now();
    expect((await now()).tag).toBe(before.tag);
    const [{ session } = { session: { id: "" } }] = await app.store.findSessions({});
    await app.store.changeSession(session.id, { claims: { roles: ["coach"] } });
    const after = await now();
    expect(after.person?.claims).toEqual({ roles: ["coach"] });
    expect(after.tag).not.toBe(before.tag);
  });

  it("keeps no session from ending that nobody uses, and says when that is", async () => {
    await signIn({ sessionIdleSeconds: 600 });
    app.aheadSeconds = 550;
    expect(Math.abs(((await now()).endsInSeconds ?? 0) - 50)).toBeLessThan(45);
    app.aheadSeconds = 650;
    expect(await now()).toEqual({ signedIn: false });
  });

  it("comes by itself when the session has ended, where the settings offer that", async () => {
    await signIn();
    expect((await events()).status).toBe(404);
    await app.stop();
    await signIn({ sessionEventsSeconds: 1 });
    expect((await now()).events).toBe("/sign-in/session/events");
    const stream = await events();
    expect(stream.headers.get("content-type")).toBe("text/event-stream");
    const reader = stream.body!.pipeThrough(new TextDecoderStream()).getReader();
    expect((await reader.read()).value).toBe(": here\n\n");
    expect((await reader.read()).value).toBe(": still here\n\n");
    const [{ session } = { session: { id: "" } }] = await app.store.findSessions({});
    await app.signIn.endSession(session.id);
    let text = "";
    for (let part = await reader.read(); !part.done; part = await reader.read()) text += part.value;
    expect(text).toMatch(/event: change\ndata:\n\n$/);
    // Whoever has none any more is told not to come back.
    expect((await events()).status).toBe(204);
  });

  it("is told to ten pages of a browser at once, and to nobody who has gone", async () => {
    await signIn({ sessionEventsSeconds: 1 });
    const leaving = new AbortController();
    const first = await events();
    const gone = await events(leaving.signal);
    leaving.abort();
    await gone.text().catch(() => undefined);
    const others = await Promise.all(Array.from({ length: 10 }, () => events()));
    // One whose browser has gone before it begins ends at once.
    const cookie = `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
    const over = await app.signIn.handle(
      new Request(`${app.origin}/sign-in/session/events`, {
        headers: { cookie },
        signal: AbortSignal.abort(),
      }),
    );
    expect(await over?.text()).toBe(": here\n\n");
    // The oldest has ended for it, without a word of change.
    expect(await first.text()).not.toContain("change");
    const reader = others[9]!.body!.getReader();
    expect((await reader.read()).done).toBe(false);
    for (const each of others.slice(0, 9)) await each.body?.cancel();
    await reader.cancel();
  });
});

describe("a window that a page has named", () => {
  it("tells it by that name on a channel of this origin; other names are none", async () => {
    app = await startApp(practice);
    const end = async (where: string) => {
      await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/tides&in=${where}`);
      if (visitor.page?.text.includes("Pick a made-up member")) await visitor.press("Maren");
      const { text, url } = await visitor.press("Yes, allow");
      const value = /<data id="ending" value="([^"]*)"/.exec(text)?.[1]?.replaceAll("&quot;", '"');
      return value === undefined ? new URL(url).pathname : (JSON.parse(value) as object);
    };
    expect(await end("pop-up.a-1")).toEqual({
      kind: "granted",
      returnTo: "/tides",
      channel: { id: "a-1", name: "tenonsaw /sign-in" },
    });
    expect(await end("pop-up")).toEqual({ kind: "granted", returnTo: "/tides" });
    for (const none of ["pop-up.", "pop-up.%22%3E", `pop-up.${"x".repeat(33)}`, "frame.a"])
      expect(await end(none)).toBe("/tides");
  });
});
