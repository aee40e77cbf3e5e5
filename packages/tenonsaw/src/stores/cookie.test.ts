import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createVisitor, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { noon, problemOf } from "../../../../tests/support/fake-world.js";
import { startApp, type App } from "../../../../tests/support/start-app.js";
import { createCookies, readKeyRing } from "../session/index.js";
import { createTools } from "../trace/index.js";
import type { Store } from "../session/index.js";
import { storeContract } from "./contract.js";
import { createCookieStore } from "./cookie.js";

let practice: Practice;
let app: App;
let visitor: Visitor;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
});
afterAll(() => practice.stop());
beforeEach(async () => {
  visitor = createVisitor();
  app = await start();
});
afterEach(() => app.stop());

const start = (changes: Parameters<typeof startApp>[1] = {}) =>
  startApp(practice, {
    store: createCookieStore(),
    sessionLifetimeSeconds: 3600,
    providers: {
      quayside: {
        issuer: practice.issuer,
        clientId: practice.client.clientId,
        clientSecret: practice.client.clientSecret!,
        scope: "openid profile email tides.read",
      },
    },
    ...changes,
  });
const jarOf = (who = visitor) => who.cookies.get("localhost") ?? new Map<string, string>();
const cookieOf = (jar = jarOf()) => [...jar].map(([name, value]) => `${name}=${value}`).join("; ");
const sessionOf = (cookie = cookieOf()) =>
  app.signIn.session(new Request(app.origin, { headers: { cookie } }));
async function keeping() {
  const tools = createTools();
  const ring = await readKeyRing(tools, Buffer.alloc(32, 7).toString("base64url"));
  return { tools, ring, app: `${app.origin}/sign-in` };
}
async function signIn(person = "Maren", who = visitor): Promise<void> {
  await who.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
  if (who.page?.text.includes("Pick a made-up member")) await who.press(person);
  if (who.page?.text.includes("Yes, allow")) await who.press("Yes, allow");
}

describe("the cookie store, by contract as far as one browser goes", () => {
  const openBrowserStore = async (): Promise<Store> =>
    createCookieStore().open(await keeping(), {
      request: new Request(app.origin),
      cookies: createCookies(app.origin),
      isAnswered: true,
    }).store;
  const applies = [
    "forgets a name that the provider does not tell any more",
    "keeps a session without a connection, where there was no access token",
    "gives back all that it was given of a session and its person",
  ];
  it.each(applies)("%s", (applying) =>
    storeContract.find(({ name }) => name === applying)!.run(openBrowserStore),
  );
});

describe("the cookie store", () => {
  it("calls a person the same at a step-up as before, whoever gave them their name", async () => {
    await app.stop();
    app = await start({
      welcome: ({ personId }) => (personId === undefined ? { personId: "member-7" } : {}),
    });
    await signIn();
    const before = (await sessionOf())?.person;
    expect(before?.id).toBe("member-7");
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/&maxAge=0`);
    await visitor.press("Maren");
    if (visitor.page?.text.includes("Yes, allow")) await visitor.press("Yes, allow");
    expect((await sessionOf())?.person).toEqual(before);
  });

  it("signs in, calls APIs and signs out with nothing on the server", async () => {
    await signIn();
    const session = await sessionOf();
    expect(session?.person.name).toBe("Maren Holt");
    expect(await session?.connection()).toMatchObject({ status: "active", isRenewable: false });
    expect((await session?.fetch("tidebook", "/tides/today"))?.status).toBe(200);
    expect(await session?.sessions()).toMatchObject([{ isThis: true }]);
    expect(await app.store.findSessions({})).toEqual([]);
    await visitor.post(`${app.origin}/sign-in/out`, {}, app.origin);
    expect([...jarOf().keys()].filter((name) => /session|kept/.test(name))).toEqual([]);
    expect(await sessionOf()).toBeUndefined();
  });

  it("is read by every process with the same keys, and knows a person again", async () => {
    await signIn();
    const before = await sessionOf();
    const { origin } = app;
    const request = new Request(origin, { headers: { cookie: cookieOf() } });
    const second = await start({ origin });
    expect((await second.signIn.session(request))?.person).toEqual(before?.person);
    // Another app with the same keys is another app.
    const foreign = await start();
    expect(await foreign.signIn.session(request)).toBeUndefined();
    await Promise.all([second.stop(), foreign.stop(), app.stop()]);
    app = await start();
    visitor = createVisitor();
    await signIn();
    expect((await sessionOf())?.person.id).toBe(before?.person.id);
    await signIn("Zoë", (visitor = createVisitor()));
    expect((await sessionOf())?.person.id).not.toBe(before?.person.id);
  });

  it("shows nothing of what it keeps, and takes nothing that was altered or joined to another session", async () => {
    await signIn();
    const mine = new Map(jarOf());
    expect(cookieOf(mine)).not.toMatch(/Maren|qs-10231|tides/);
    const kept = [...mine.keys()].filter((name) => name.includes("kept-"));
    for (const name of kept) {
      const value = mine.get(name) ?? "";
      const altered = new Map(mine).set(
        name,
        value.slice(0, -8) + (value.at(-8) === "A" ? "B" : "A") + value.slice(-7),
      );
      expect(await sessionOf(cookieOf(altered))).toBeUndefined();
      const cut = new Map(mine);
      cut.delete(name);
      expect(await sessionOf(cookieOf(cut))).toBeUndefined();
    }
    const stranger = createVisitor();
    await signIn("Zoë", stranger);
    const joined = new Map(mine);
    for (const name of kept) joined.set(name, jarOf(stranger).get(name) ?? "");
    expect(await sessionOf(cookieOf(joined))).toBeUndefined();
    expect(await sessionOf(cookieOf(mine))).toBeDefined();
  });

  it("ends when it says, however long somebody keeps its cookies", async () => {
    await signIn();
    app.aheadSeconds = 3601;
    expect(await sessionOf()).toBeUndefined();
  });

  it("lets an answer be used once: a second press and the back button lead on to the page", async () => {
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/tides`);
    await visitor.press("Maren");
    const before = cookieOf();
    await visitor.press("Yes, allow");
    const callback = visitor.page?.trail.find((url) => url.includes("/sign-in/from/")) ?? "";
    const tokenRequests = () =>
      app.events.filter((event) => event.kind === "leg" && event.leg === "token request").length;
    expect(tokenRequests()).toBe(1);
    // The back button, and a copy with the cookies from before: what a double click sends.
    expect((await visitor.open(callback)).url).toBe(`${app.origin}/tides`);
    const copy = () => app.signIn.handle(new Request(callback, { headers: { cookie: before } }));
    expect((await copy())?.headers.get("location")).toBe(`${app.origin}/tides`);
    app.aheadSeconds = 6;
    expect(await (await copy())?.text()).toContain("response.attempt-used");
    expect(tokenRequests()).toBe(1);
  });

  it("keeps three attempts open a browser, and the oldest goes", async () => {
    for (let count = 0; count < 5; count += 1) {
      app.aheadSeconds += 1;
      await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
    }
    expect([...jarOf().keys()].filter((name) => name.includes("attempt-"))).toHaveLength(3);
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
    expect(await sessionOf()).toBeDefined();
  });

  it("is not put out by cookies of others that look like its own", async () => {
    const strange = ["tenonsaw-attempt-a(b=x", "tenonsaw-kept-9=x", "tenonsaw-attempt-=x"];
    const many = Array.from({ length: 9 }, (_, index) => `tenonsaw-attempt-${index}=eyJ.x`);
    const headers = new Headers();
    headers.set("cookie", [...many, ...strange].join("; "));
    const begun = await app.signIn.handle(new Request(`${app.origin}/sign-in/to/quayside`, { headers }));
    expect(begun?.status).toBe(303);
    expect(await sessionOf(`${strange[1] ?? ""}; tenonsaw-session=${"a".repeat(43)}`)).toBeUndefined();
  });

  it("signs out here, and says that it cannot do so everywhere", async () => {
    await signIn();
    const { status, text } = await visitor.post(
      `${app.origin}/sign-in/out`,
      { everywhere: "yes" },
      app.origin,
    );
    expect([status, text]).toEqual([501, expect.stringContaining("store.in-browser")]);
    expect(await sessionOf()).toBeUndefined();
  });

  it("ends a connection with its access token, and says that there is nothing to renew it with", async () => {
    await signIn();
    app.aheadSeconds = 3000;
    const session = await sessionOf();
    const { code } = await problemOf(async () => session?.fetch("tidebook", "/tides/today"));
    expect(code).toBe("connection.ended");
  });

  it.each([
    ["ends a session for an operator", () => app.signIn.endSession("s1")],
    ["ends a person's sessions everywhere", () => app.signIn.endSessions("p1")],
    ["forgets a person", () => app.signIn.forget("p1")],
    ["calls for a person who is not here", () => app.signIn.fetchFor("p1", "tidebook", "/tides/today")],
    [
      "ends its own session outside the sign-in routes",
      async () => {
        await signIn();
        const session = await sessionOf();
        await session?.endSession((await session.sessions())[0]?.id ?? "");
      },
    ],
  ])("says that it cannot, where the app %s", async (_, work) => {
    expect((await problemOf(work)).code).toBe("store.in-browser");
  });

  it("refuses what it could not find again: further identities, notices, a session too long for it", async () => {
    const kept = await keeping();
    const { store } = createCookieStore().open(kept);
    for (const work of [
      () => store.useMark("logout/x", noon, noon),
      () => store.findSession("s1"),
      () => store.findAttempt("a1"),
      () => store.unlinkIdentity({ personId: "p1", issuer: "i", subject: "s" }, []),
      () =>
        store.linkIdentity({ sessionId: "s", identity: { issuer: "i", subject: "s", provider: "p" }, at: 1 }),
    ])
      expect((await problemOf(work)).code).toBe("store.in-browser");
    await app.stop();
    app = await start();
    const browser = {
      request: new Request(app.origin),
      cookies: createCookies(app.origin),
      isAnswered: true,
    };
    const open = createCookieStore().open(kept, browser);
    const session = {
      id: "s1",
      provider: "q",
      issuer: "i",
      subject: "s",
      createdAt: noon,
      expiresAt: noon + 60,
    };
    const { code } = await problemOf(() =>
      open.store.saveSignIn({
        personId: "p1",
        profile: { picture: "x".repeat(6000) },
        identity: { issuer: "i", subject: "s", provider: "q" },
        session,
      }),
    );
    expect([code, open.changes()]).toEqual(["store.cookies-full", []]);
  });

  it("refuses settings that it cannot hold to, each where it stands", async () => {
    const quayside = {
      issuer: practice.issuer,
      clientId: "x",
      clientSecret: "y",
      scope: "openid offline_access",
    };
    const { code, findings } = await problemOf(() =>
      start({
        providers: { quayside },
        sessionLifetimeSeconds: 86_401,
        sessionIdleSeconds: 60,
        sessionCacheSeconds: 5,
        sessionKinds: { own: { lifetimeSeconds: 90_000, idleSeconds: 60 } },
      }),
    );
    expect(code).toBe("provider.settings-refused");
    expect(findings?.map(({ path }) => path).sort()).toEqual([
      "providers.quayside.scope",
      "sessionCacheSeconds",
      "sessionIdleSeconds",
      "sessionKinds.own.idleSeconds",
      "sessionKinds.own.lifetimeSeconds",
      "sessionLifetimeSeconds",
    ]);
  });
});
