import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import { isProblem, type Problem } from "../../problem/index.js";
import {
  createVisitor,
  startPractice,
  type Practice,
  type RehearsalName,
  type Visitor,
} from "tenonsaw-practice";
import { createMemoryStore } from "../../stores/memory.js";
import { startApp, type App } from "../../../../../tests/support/start-app.js";
import { createSignIn, type Session, type Store } from "../index.js";

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
/** Somebody else, in a browser of their own. */
async function strangerSignsIn(): Promise<Visitor> {
  const stranger = createVisitor();
  await stranger.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
  await stranger.press("Zoë");
  await stranger.press("Yes, allow");
  return stranger;
}
const sessionOf = (who = visitor, headers = {}, method = "GET") => {
  const cookie = `tenonsaw-session=${who.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
  return app.signIn.session(new Request(app.origin, { method, headers: { cookie, ...headers } }));
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

describe("what a provider has granted, and nobody is going to use,", () => {
  it.each<[string, Partial<Store>, number, RehearsalName?]>([
    ["the store cannot be written", { saveSignIn: () => Promise.reject(new Error("the disk is full")) }, 503],
    ["the store cannot be read", { findIdentity: () => Promise.reject(new Error("nobody there")) }, 503],
    ["the ID token does not hold", {}, 403, "nonce-wrong"],
    ["userinfo is about somebody else", {}, 403, "userinfo-of-somebody-else"],
  ])("is taken back: %s", async (_, broken, status, rehearsal) => {
    await app.stop();
    practice.rehearse(rehearsal);
    app = await startApp(practice, { welcome: () => ({}) }, { ...createMemoryStore(), ...broken });
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
    practice.rehearse();
    expect(visitor.page?.status).toBe(status);
    expect(legs().filter((leg) => leg === "revocation request")).toHaveLength(1);
  });

  it("is left to end by itself where somebody is signed in, whose tokens some providers would end with it", async () => {
    await signIn();
    practice.rehearse("nonce-wrong");
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
    await visitor.press("Yes, allow");
    practice.rehearse();
    expect([visitor.page?.status, legs().includes("revocation request")]).toEqual([403, false]);
    expect(await (await sessionOf())?.connection()).toMatchObject({ status: "active" });
  });
});

describe("the sessions of a person", () => {
  it("are of the app they were begun at, and of no other on the same store", async () => {
    await signIn();
    const cookie = `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
    const keys = Buffer.alloc(32, 7).toString("base64url");
    const providers = { quayside: { issuer: practice.issuer, clientId: "ferrywell", clientSecret: "s" } };
    const at = async (origin: string, basePath: string) => {
      const other = await createSignIn({ origin, basePath, keys, providers, store: app.store });
      return (await other.session(new Request(origin, { headers: { cookie } })))?.person.name;
    };
    const { origin } = app;
    expect(await at(origin, "/sign-in")).toBe("Maren Holt");
    for (const [where, basePath] of [
      [origin, "/staff/sign-in"],
      ["http://localhost:4999", "/sign-in"],
    ] as const)
      expect([where, basePath, await at(where, basePath)]).toEqual([where, basePath, undefined]);
  });

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
    const stranger = await strangerSignsIn();
    const theirs = (await (await sessionOf(stranger))?.sessions())?.[0];
    expect(await mine.endSession(theirs?.id ?? "")).toBe(false);
    expect(await sessionOf(stranger)).toBeDefined();
  });

  it("all end when one of them signs out everywhere, or the app ends them, and nobody else's", async () => {
    const stranger = await strangerSignsIn();
    const other = createVisitor();
    await signIn();
    await signIn(other);
    await visitor.post(`${app.origin}/sign-in/out`, { everywhere: "yes" });
    const there = async () =>
      Promise.all([visitor, other, stranger].map(async (who) => !!(await sessionOf(who))));
    expect(await there()).toEqual([false, false, true]);
    expect(legs().filter((leg) => leg === "revocation request")).toHaveLength(2);
    const { person } = await signIn(other);
    // Nobody in particular is not everybody.
    for (const [none, because] of [
      [undefined, "argument"],
      [null, "argument"],
      ["", "argument"],
      [person, "whole"],
      [await sessionOf(other), "whole"],
    ] as [never, string][])
      for (const work of [() => app.signIn.endSessions(none), () => app.signIn.forget(none)])
        expect(await problemOfCall(work)).toMatchObject({ code: "session.person-unusable", because });
    // What there is not is no error, and not as if it had been there.
    expect([
      await app.signIn.endSessions("nobody"),
      await app.signIn.forget("nobody"),
      await app.signIn.endSession("none"),
    ]).toEqual([0, false, false]);
    expect(await there()).toEqual([false, true, true]);
    expect(await app.signIn.endSessions(person.id)).toBe(1);
    expect(await there()).toEqual([false, false, true]);
    // A form from elsewhere ends nothing, and neither does one that is no form.
    const { status } = await stranger.post(
      `${app.origin}/sign-in/out`,
      { everywhere: "yes" },
      "https://evil.example",
    );
    expect(status).toBe(403);
    expect((await stranger.post(`${app.origin}/sign-in/out`, { everywhere: "x".repeat(5000) })).status).toBe(
      413,
    );
    expect(await there()).toEqual([false, false, true]);
  });

  it("end here first, whatever becomes of the others", async () => {
    await signIn();
    vi.spyOn(app.store, "findSessions").mockRejectedValue(new TypeError("gone"));
    const { status, text } = await visitor.post(`${app.origin}/sign-in/out`, { everywhere: "yes" });
    expect([status, text]).toEqual([503, expect.stringContaining("store.unavailable")]);
    expect(await sessionOf()).toBeUndefined();
    await expect.poll(legs).toContain("revocation request");
  });

  it("hand what they held to revocation when another sign-in follows in the same browser, and when they expire", async () => {
    const revoked = () => legs().filter((leg) => leg === "revocation request").length;
    await signIn();
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/&maxAge=0`);
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
    await expect.poll(revoked).toBe(1);
    app.aheadSeconds = 604_801;
    await createVisitor().open(`${app.origin}/sign-in/to/quayside`);
    await expect.poll(revoked).toBe(2);
  });

  it("of two apps on one host do not end each other", async () => {
    await signIn();
    const second = await startApp(practice, { cookiePrefix: "boathouse" });
    await visitor.open(`${second.origin}/sign-in/to/quayside?returnTo=/`);
    if (visitor.page?.text.includes("Pick a made-up member")) await visitor.press("Maren");
    await visitor.press("Yes, allow");
    expect(visitor.cookies.get("localhost")?.has("boathouse-session")).toBe(true);
    await visitor.post(`${second.origin}/sign-in/out`, {});
    expect(await sessionOf()).toBeDefined();
    await second.stop();
  });

  it("end here alone, and leave the tokens, where the settings say so", async () => {
    await app.stop();
    app = await startApp(practice, { signOut: { atProvider: false, revokeTokens: false } });
    await signIn();
    const { url } = await visitor.post(`${app.origin}/sign-in/out`, {});
    expect(url).toBe(`${app.origin}/`);
    expect(await sessionOf()).toBeUndefined();
    expect(legs()).not.toContain("revocation request");
    // Signed in at the provider still: it asks for no name.
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
    expect(visitor.page?.text).not.toContain("Pick a made-up member");
  });

  it("go with the person, when the app forgets them", async () => {
    const { person } = await signIn();
    expect(await app.signIn.forget(person.id)).toBe(true);
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
    // Whoever looks is not there yet: nothing is written, and nothing goes on for it.
    expect(await sessionOf(visitor, {}, "HEAD")).toBeDefined();
    for (const name of ["sec-purpose", "purpose"])
      expect(await sessionOf(visitor, { [name]: "prefetch" })).toBeDefined();
    expect(await lastSeen()).toBe(seen);
    expect(await sessionOf()).toBeDefined();
    app.aheadSeconds = 1700;
    expect(await sessionOf()).toBeUndefined();
  });

  it("is none unless it is set, and a session says in which browser it is", async () => {
    await visitor.open(`${app.origin}/`, { "user-agent": "x" });
    const session = await signIn();
    expect(await session.sessions()).toMatchObject([{ isThis: true, device: "node" }]);
    app.aheadSeconds = 600_000;
    expect(await sessionOf()).toBeDefined();
    expect((await app.store.findSessions({}))[0]?.session.lastSeenAt).toBeUndefined();
  });
});

describe("kinds of session", () => {
  const restart = async (changes: Parameters<typeof startApp>[1]) => {
    await app.stop();
    app = await startApp(practice, changes);
  };
  const signInAs = async (kind: string, who = visitor) => {
    await who.open(`${app.origin}/sign-in/to/quayside?returnTo=/&kind=${kind}`);
    if (who.page?.text.includes("Pick a made-up member")) await who.press("Maren");
    await who.press("Yes, allow");
    return sessionOf(who);
  };
  const sessionKinds = {
    own: { lifetimeSeconds: 5_000_000 },
    counter: { lifetimeSeconds: 3600, idleSeconds: 300, endsWithBrowser: true },
  };

  it("have limits of their own, and the session says which it is", async () => {
    await restart({ sessionKinds, sessionLifetimeSeconds: 7200 });
    const [own, counter, common] = [createVisitor(), createVisitor(), createVisitor()];
    expect(await signInAs("own", own)).toMatchObject({ kind: "own" });
    expect(await signInAs("counter", counter)).toMatchObject({ kind: "counter" });
    expect(await signIn(common)).not.toHaveProperty("kind");
    const left = async () => Promise.all([own, counter, common].map(async (who) => !!(await sessionOf(who))));
    app.aheadSeconds = 301;
    expect(await left()).toEqual([true, false, true]);
    app.aheadSeconds = 7201;
    expect(await left()).toEqual([true, false, false]);
  });

  it("end with the browser where that is wanted, by a cookie without an end of its own", async () => {
    await restart({ sessionKinds });
    for (const [kind, ends] of [
      ["own", true],
      ["counter", false],
    ] as const) {
      const who = createVisitor();
      await who.open(`${app.origin}/sign-in/to/quayside?returnTo=/&kind=${kind}`);
      await who.press("Maren");
      const handled = vi.spyOn(app.signIn, "handle").mockClear();
      await who.press("Yes, allow");
      const answers = await Promise.all(handled.mock.results.map(({ value }) => value as Promise<Response>));
      const cookie = answers
        .flatMap((answer: Response | undefined) => answer?.headers.getSetCookie() ?? [])
        .find((each) => each.startsWith("tenonsaw-session="));
      expect(cookie?.includes("Max-Age")).toBe(ends);
    }
  });

  it("are those of the settings: nobody makes up one that lasts for ever", async () => {
    await restart({ sessionKinds });
    for (const kind of ["for-ever", "__proto__", ""]) {
      await visitor.open(`${app.origin}/sign-in/to/quayside?kind=${kind}`);
      expect([visitor.page?.status, visitor.page?.text]).toEqual([
        400,
        expect.stringContaining("own, counter") as string,
      ]);
    }
  });
});

describe("a process that remembers sessions", () => {
  const start = async (store = app.store) => {
    let reads = 0;
    const counting: Store = {
      ...store,
      findSession: (id) => {
        reads += 1;
        return store.findSession(id);
      },
    };
    const started = await startApp(practice, { sessionCacheSeconds: 10 }, counting);
    return { started, reads: () => reads };
  };

  it("reads one once in so many seconds, and forgets at once what is ended through it", async () => {
    const { started, reads } = await start();
    await app.stop();
    app = started;
    const session = await signIn();
    const before = reads();
    for (let count = 0; count < 5; count += 1) expect(await sessionOf()).toBeDefined();
    expect(reads()).toBe(before);
    app.aheadSeconds = 11;
    await sessionOf();
    expect(reads()).toBe(before + 1);
    await session.endSession((await session.sessions())[0]?.id ?? "");
    expect(await sessionOf()).toBeUndefined();
  });

  it("forgets a person's sessions when they sign in anew, and nobody else's", async () => {
    const { started, reads } = await start();
    await app.stop();
    app = started;
    const stranger = await strangerSignsIn();
    const other = createVisitor();
    await signIn();
    await sessionOf(stranger);
    await signIn(other);
    const before = reads();
    await sessionOf(stranger);
    expect(reads()).toBe(before);
    await sessionOf();
    expect(reads()).toBe(before + 1);
  });

  it("goes on for no longer than that with one that was ended elsewhere, nor past its end", async () => {
    const { started } = await start();
    const elsewhere = app;
    app = started;
    await signIn();
    const [found] = await elsewhere.store.findSessions({});
    expect(await sessionOf()).toBeDefined();
    expect(await elsewhere.signIn.endSession(found?.session.id ?? "")).toBe(true);
    expect(await sessionOf()).toBeDefined();
    app.aheadSeconds = 10;
    expect(await sessionOf()).toBeUndefined();
    await elsewhere.stop();
  });
});

describe("an API that takes an access token of its own", () => {
  it("gets one that is good for nothing else, by the refresh token of the sign-in", async () => {
    await app.stop();
    app = await startApp(practice, {
      apis: {
        tidebook: { provider: "quayside", origin: practice.tidebook, scope: "tides.read" },
        whole: { provider: "quayside", origin: practice.tidebook },
        elsewhere: { provider: "quayside", origin: practice.slipway, resource: practice.slipway },
        unknown: { provider: "quayside", origin: practice.slipway, resource: "https://nowhere.example" },
        toomuch: { provider: "quayside", origin: practice.slipway, scope: "slipway.status" },
      },
    });
    const session = await signIn();
    const claimsOf = async (api: string) =>
      JSON.parse(
        Buffer.from((await session.token(api)).split(".")[1] ?? "", "base64url").toString(),
      ) as Record<string, string>;
    expect(await claimsOf("tidebook")).toMatchObject({ scope: "tides.read" });
    expect((await claimsOf("whole"))["scope"]).toContain("offline_access");
    expect((await session.fetch("tidebook", "/tides/today")).status).toBe(200);
    expect(legs().filter((leg) => leg === "refresh request")).toHaveLength(1);
    expect(await claimsOf("elsewhere")).toMatchObject({ aud: practice.slipway });
    for (const api of ["unknown", "toomuch"]) {
      expect(await problemOfCall(() => session.token(api))).toMatchObject({
        code: "grant.provider-error",
        received: expect.stringMatching(/invalid_target|invalid_scope/) as string,
      });
      // That one is asked for less often from now on, and nothing else is.
      expect(await problemOfCall(() => session.token(api))).toMatchObject({ code: "connection.busy" });
    }
    expect(await claimsOf("tidebook")).toMatchObject({ scope: "tides.read" });
    expect((await session.connection())?.status).toBe("active");
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

describe("a call that is refused for another reason than scope", () => {
  it.each([
    'Bearer error="insufficient_scope"',
    'Bearer error="insufficient_scope", scope="tides.read openid"',
  ])("comes back as the API answered it: asking the person would change nothing (%s)", async (challenge) => {
    const api = createServer((_, outgoing) => {
      outgoing.writeHead(403, { "www-authenticate": challenge }).end("harbour masters only");
    });
    await new Promise<void>((resolve) => api.listen(0, "localhost", resolve));
    const origin = `http://localhost:${(api.address() as AddressInfo).port}`;
    await app.stop();
    app = await startApp(practice, { apis: { tidebook: { provider: "quayside", origin } } });
    const answer = await (await signIn()).fetch("tidebook", "/");
    expect([answer.status, await answer.text()]).toEqual([403, "harbour masters only"]);
    api.close();
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
    const misused: [() => Promise<unknown>, string][] = [
      [() => session.token("tidebook", "maren" as never), "connection.call-unusable"],
      [() => session.connection("quaysid"), "provider.unknown"],
      [() => session.endSession(undefined as never), "session.id-unusable"],
    ];
    for (const [work, code] of misused) expect((await problemOfCall(work))?.code).toBe(code);
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
