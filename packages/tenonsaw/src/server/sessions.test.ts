import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { isProblem, type Problem } from "../problem/index.js";
import { createVisitor, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { startApp, type App } from "../../../../tests/support/start-app.js";
import type { Session } from "./index.js";

let practice: Practice;
let app: App;
let visitor: Visitor;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
});
afterAll(() => practice.stop());
beforeEach(async () => {
  visitor = createVisitor();
  app = await startApp(practice);
});
afterEach(() => app.stop());

async function signIn(who = visitor, scope = ""): Promise<Session> {
  await who.open(`${app.origin}/sign-in/to/quayside?returnTo=/${scope}`);
  if (who.page?.text.includes("Pick a made-up member")) await who.press("Maren");
  await who.press("Yes, allow");
  return (await sessionOf(who))!;
}
const sessionOf = (who = visitor) => {
  const cookie = `tenonsaw-session=${who.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
  return app.signIn.session(new Request(app.origin, { headers: { cookie } }));
};
const legs = () => app.events.flatMap((event) => (event.kind === "leg" ? [event.leg] : []));
async function problemOfCall(work: () => Promise<unknown>): Promise<Problem | undefined> {
  try {
    await work();
    return undefined;
  } catch (error) {
    return isProblem(error) ? error.problem : undefined;
  }
}

describe("the sessions of a person", () => {
  it("are listed, and each can be ended from another, its tokens taken back", async () => {
    const first = await signIn();
    const second = await signIn(createVisitor());
    const listed = await first.sessions();
    expect(listed.map(({ provider, isThis }) => [provider, isThis])).toEqual([
      ["quayside", false],
      ["quayside", true],
    ]);
    const [other] = listed;
    expect(await first.endSession(other?.id ?? "")).toBe(true);
    expect(legs()).toContain("revocation request");
    expect(await first.sessions()).toHaveLength(1);
    expect(await second.connection()).toBeUndefined();
    expect(await first.endSession(other?.id ?? "")).toBe(false);
  });

  it("are nobody else's to end", async () => {
    const mine = await signIn();
    const stranger = createVisitor();
    await stranger.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
    await stranger.press("Zoë");
    await stranger.press("Yes, allow");
    const theirs = (await (await sessionOf(stranger))?.sessions())?.[0];
    expect(await mine.endSession(theirs?.id ?? "")).toBe(false);
    expect(await sessionOf(stranger)).toBeDefined();
  });

  it("go with the person, when the app forgets them", async () => {
    const { person } = await signIn();
    await app.signIn.forget(person.id);
    expect([await sessionOf(), await app.store.findIdentity(practice.issuer, "qs-10231")]).toEqual([
      undefined,
      undefined,
    ]);
    expect(legs()).toContain("revocation request");
    const again = await signIn();
    expect(again.person.id).not.toBe(person.id);
  });
});

describe("an idle limit", () => {
  it("ends a session that nobody uses, and writes now and then for one that is used", async () => {
    await app.stop();
    app = await startApp(practice, { sessionIdleSeconds: 600 });
    await signIn();
    const lastSeen = async () => (await app.store.findSessions({}))[0]?.session.lastSeenAt;
    app.aheadSeconds = 50;
    expect([await sessionOf(), await lastSeen()]).toEqual([expect.anything(), undefined]);
    app.aheadSeconds = 500;
    expect(await sessionOf()).toBeDefined();
    const seen = await lastSeen();
    expect(seen).toBeDefined();
    app.aheadSeconds = 520;
    await sessionOf();
    expect(await lastSeen()).toBe(seen);
    app.aheadSeconds = 1090;
    expect(await sessionOf()).toBeDefined();
    app.aheadSeconds = 1700;
    expect(await sessionOf()).toBeUndefined();
  });

  it("is none unless it is set, and a session says in which browser it is", async () => {
    await visitor.open(`${app.origin}/`, { "user-agent": "x" });
    const session = await signIn();
    expect(await session.sessions()).toMatchObject([{ isThis: true, device: expect.any(String) as string }]);
    app.aheadSeconds = 600_000;
    expect(await sessionOf()).toBeDefined();
    expect((await app.store.findSessions({}))[0]?.session.lastSeenAt).toBeUndefined();
  });
});

describe("a call that the token does not allow", () => {
  it("says what to ask the person for, and works when they have been asked", async () => {
    const client = { clientId: "ferrywell", clientSecret: "only-for-practice" };
    await app.stop();
    app = await startApp(practice, {
      providers: { quayside: { issuer: practice.issuer, ...client, scope: "openid profile" } },
    });
    const session = await signIn();
    const problem = await problemOfCall(() => session.fetch("tidebook", "/tides/today"));
    expect(problem).toMatchObject({
      code: "connection.scope-insufficient",
      ask: { provider: "quayside", scope: "tides.read" },
    });
    const asked = app.signIn.ask(
      new Request(`${app.origin}/tides`, { headers: { accept: "text/html" } }),
      problem?.ask,
    );
    await visitor.open(asked.headers.get("location") ?? "");
    await visitor.press("Yes, allow");
    expect((await (await sessionOf())?.fetch("tidebook", "/tides/today"))?.status).toBe(200);
  });
});

describe("session.token", () => {
  it("hands out a fresh bearer token, and none that is bound", async () => {
    const session = await signIn();
    const token = await session.token("tidebook");
    const headers = { authorization: `Bearer ${token}` };
    expect((await fetch(`${practice.tidebook}/tides/today`, { headers })).status).toBe(200);
    app.aheadSeconds = 60;
    expect(await session.token("tidebook")).not.toBe(token);
    await app.stop();
    const client = { clientId: "ferrywell", clientSecret: "only-for-practice", dpopBoundAccessTokens: true };
    app = await startApp(practice, { providers: { quayside: { issuer: practice.issuer, ...client } } });
    const bound = await signIn(createVisitor());
    expect((await problemOfCall(() => bound.token("tidebook")))?.code).toBe("connection.token-bound");
    expect((await problemOfCall(() => bound.token("crane")))?.code).toBe("connection.api-unknown");
  });
});

describe("the way back from the provider's sign-out", () => {
  const notes = () => app.events.flatMap((event) => (event.kind === "note" ? [event.note] : []));

  it("is told from one that was not begun here", async () => {
    await signIn();
    const page = await visitor.post(`${app.origin}/sign-in/out`, {});
    expect(new URL(page.trail[1] ?? "").searchParams.get("state")).toMatch(/^[\w-]{43}$/);
    expect(notes()).toContain("signed out at the provider");
    expect(visitor.cookies.get("localhost")?.has("tenonsaw-sign-out")).toBe(false);
    await visitor.open(`${app.origin}/sign-in/out/done?state=made-up`);
    expect(notes().at(-1)).toBe("back from a sign-out that was not begun here");
    expect(visitor.page?.url).toBe(`${app.origin}/`);
  });
});

describe("a connection that the provider honours no more", () => {
  it("needs consent, is told to the app once, and is repaired by signing in again", async () => {
    const told: string[] = [];
    await app.stop();
    app = await startApp(practice, { onConnection: ({ kind }) => told.push(kind) });
    const session = await signIn();
    await session.fetch("tidebook", "/tides/today");
    practice.rehearse("code-refused");
    app.aheadSeconds = 60;
    expect((await problemOfCall(() => session.fetch("tidebook", "/tides/today")))?.code).toBe(
      "connection.ended",
    );
    practice.rehearse();
    expect([told, (await session.connection())?.status]).toEqual([["needs consent"], "needs consent"]);
    expect((await sessionOf())?.person.id).toBe(session.person.id);
    const repaired = await signIn();
    expect((await repaired.connection())?.status).toBe("active");
  });
});
