import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { problemOf } from "../../../../../tests/support/fake-world.js";
import { hurried, startApp, type App } from "../../../../../tests/support/start-app.js";
import { pickClaims } from "../../identity/index.js";
import type { TraceEvent } from "../../trace/index.js";
import type { IdentityRecord, SignInSettings } from "../index.js";

let practice: Practice;
let app: App | undefined;
let visitor: Visitor;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
});
afterAll(() => practice.stop());
beforeEach(() => {
  visitor = createVisitor();
});
afterEach(() => app?.stop());

/** An app with two ways to sign in; registered at both. */
async function start(changes: Partial<SignInSettings> = {}): Promise<App> {
  const client = { clientId: "ferrywell", clientSecret: defaultClient.clientSecret! };
  app = await startApp(practice, {
    providers: {
      quayside: {
        title: "Quayside ID",
        issuer: practice.issuer,
        ...client,
        scope: "openid profile offline_access",
      },
      lockgate: {
        title: "Lockgate Permits",
        issuer: practice.lockgate,
        ...client,
        clientAuthentication: "client_secret_post",
        scope: "permits.read",
        discovery: "none",
        metadata: {
          authorizationEndpoint: `${practice.lockgate}/oauth/authorize`,
          tokenEndpoint: `${practice.lockgate}/oauth/token`,
          userinfoEndpoint: `${practice.lockgate}/api/whoami`,
        },
        profile: { subject: "/account/number", name: "/account/display/full" },
        deviations: {
          noIdToken: true,
          formEncodedTokenAnswer: true,
          errorInside200: true,
          tokenTypeAbsent: true,
          scopeSeparator: ",",
        },
      },
    },
    apis: {},
    ...changes,
  });
  const { origin } = app;
  practice.register({
    ...defaultClient,
    redirectUris: ["quayside", "lockgate"].map((name) => `${origin}/sign-in/from/${name}`),
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
  });
  return app;
}

const shownClaims = async (who: Visitor) => {
  const headers = {
    cookie: `tenonsaw-session=${who.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`,
  };
  return (await app!.signIn.session(new Request(app!.origin, { headers })))?.claims;
};

describe("what the settings keep of the claims", () => {
  const keeping = (sessionClaims: Readonly<Record<string, string | string[]>>) => {
    const [clientId, clientSecret] = ["ferrywell", defaultClient.clientSecret!];
    const quayside = { issuer: practice.issuer, clientId, clientSecret, scope: "openid profile email" };
    return start({ providers: { quayside: { ...quayside, sessionClaims } } });
  };

  it("is there with the session, as the provider said it: roles, and nothing that it did not say", async () => {
    await keeping({ roles: "/roles", isVerified: ["/nowhere", "/email_verified"], tenant: "/tid" });
    await signIn(visitor, "quayside", "Maren");
    expect(await shownClaims(visitor)).toEqual({ roles: ["member", "coach"], isVerified: true });
  });

  it("is whole, or there is no session", async () => {
    const claims = { list: ["r".repeat(2100)] };
    const { code, received } = await problemOf(() => pickClaims({ roles: "/list" }, claims));
    expect([code, received]).toEqual([
      "session.claims-too-large",
      expect.stringMatching(/^2\d{3} characters: roles$/),
    ]);
    const most = { a: "x".repeat(2048 - '{"a":""}'.length) };
    expect(pickClaims({ a: "/a" }, most)).toEqual(most);
    expect(pickClaims({ roles: "/list/1", all: "/list" }, { list: [1] })).toEqual({ all: [1] });
  });
});

/** Presses what is there to be pressed until the browser is back at the app. */
async function pass(who: Visitor, person: string): Promise<void> {
  for (let step = 0; step < 4 && !who.page?.url.startsWith(app?.origin ?? ""); step += 1) {
    const { text = "" } = who.page ?? {};
    const choices = [person, "Yes, allow", "Permit", "Issue"];
    const label = choices.find((choice) => new RegExp(`<button[^>]*>\\s*(<[^>]+>\\s*)*${choice}`).test(text));
    await who.press(label ?? person);
  }
}

async function signIn(who: Visitor, provider: string, person: string): Promise<void> {
  await who.open(`${app!.origin}/sign-in/to/${provider}?returnTo=/`);
  await pass(who, person);
}

async function link(who: Visitor, provider: string, person: string, origin = app!.origin): Promise<void> {
  await who.post(`${app!.origin}/sign-in/link/${provider}`, { returnTo: "/" }, origin);
  await pass(who, person);
}

interface Me {
  readonly person?: { readonly id: string; readonly name: string };
}
const me = async (who = visitor) => JSON.parse((await who.open(app!.origin)).text) as Me;
const sessionOf = (who: Visitor) => {
  const cookie = `tenonsaw-session=${who.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
  return app!.signIn.session(new Request(app!.origin, { headers: { cookie } }));
};
const codeOf = (who: Visitor) => /\(([a-z]+\.[a-z-]+)\)/.exec(who.page?.text ?? "")?.[1];
const identitiesOf = async (who = visitor): Promise<readonly IdentityRecord[]> =>
  app!.store.findIdentities((await me(who)).person?.id ?? "");

describe("a first visit", () => {
  it("is everybody's who signs in, unless the app says otherwise", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    expect((await me()).person).toMatchObject({ name: "Maren Holt" });
  });

  it("can be refused: no session, no record, the tokens taken back, and the reason in the trace only", async () => {
    const reason = "not on the members' list";
    await start({ welcome: () => ({ refused: reason }) });
    await signIn(visitor, "quayside", "Maren");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([403, "session.person-refused"]);
    expect(await me()).toEqual({});
    expect(await app!.store.findIdentity(practice.issuer, "qs-10231")).toBeUndefined();
    const legs = app!.events.flatMap((event) => (event.kind === "leg" ? [event.leg] : []));
    expect(legs).toContain("revocation request");
    expect(JSON.stringify(app!.events)).toContain(reason);
  });

  it("can be sent to a page of the app's own first, and every visit is asked about", async () => {
    const visits: unknown[] = [];
    await start({
      welcome({ provider, identity: { issuer, subject, isProved, profile }, personId }) {
        visits.push([provider, issuer, subject, isProved, profile.name, personId]);
        if (visits.length === 3) return { refused: "blocked since yesterday" };
        if (visits.length === 4) return { personId: "member-8" };
        return personId === undefined ? { personId: "member-7", page: "/welcome?step=boat" } : {};
      },
    });
    await signIn(visitor, "quayside", "Maren");
    expect(visitor.page?.url).toBe(`${app!.origin}/welcome?step=boat&returnTo=%2F`);
    expect((await me()).person?.id).toBe("member-7");
    await signIn(visitor, "quayside", "Maren");
    expect(visitor.page?.url).toBe(`${app!.origin}/`);
    // Whoever may not enter any more does not, whatever they were before; and nobody becomes somebody else.
    await signIn(visitor, "quayside", "Maren");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([403, "session.person-refused"]);
    await signIn(visitor, "quayside", "Maren");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([500, "session.person-unusable"]);
    const who = ["quayside", practice.issuer, "qs-10231", true, "Maren Holt"];
    expect(visits).toEqual([[...who, undefined], ...Array.from({ length: 3 }, () => [...who, "member-7"])]);
  });

  it.each<[string, unknown]>([
    ...[
      false,
      "hello",
      null,
      7,
      { page: 7 },
      { page: "https://elsewhere.example/" },
      { page: "welcome" },
      { refusd: "no" },
      { refused: "" },
      [],
    ].map((each): [string, unknown] => [JSON.stringify(each), each]),
    // What has no members of its own says nothing, and is not meant as a welcome.
    ["an error", new Error("blocked")],
    ["a response", new Response(null, { status: 403 })],
    ["a map", new Map([["refused", "blocked"]])],
  ])("lets nobody in where the app answers %s", async (_, answer) => {
    await start({ welcome: () => answer as never });
    await signIn(visitor, "quayside", "Maren");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([500, "server.hook-unusable"]);
    expect(visitor.cookies.get("localhost")?.has("tenonsaw-session")).not.toBe(true);
  });

  it("lets nobody in where the app never answers, takes back the tokens, and asks anew the next time", async () => {
    const said: string[] = [];
    let [asked, fails] = [0, (_error: Error): void => undefined];
    await start({
      platform: hurried(),
      onProblem: ({ during, error }) => said.push(`during ${during}: ${String(error)}`),
      welcome: () => {
        asked += 1;
        return asked > 1 ? {} : new Promise((_, reject) => (fails = reject));
      },
    });
    await signIn(visitor, "quayside", "Maren");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([500, "server.hook-unusable"]);
    expect(app!.events).toContainEqual(
      expect.objectContaining({ kind: "leg", leg: "revocation request", status: 200 }),
    );
    fails(new Error("the pool of connections is used up"));
    await signIn(visitor, "quayside", "Maren");
    expect((await me()).person?.id).toBeDefined();
    expect(said.join("\n")).toMatch(
      /during GET .*`welcome` has not answered for 30 s.*during welcome, after its time was over: .*used up/s,
    );
  });

  it("never joins two accounts because they have the same e-mail address", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    const first = (await me()).person?.id;
    const other = createVisitor();
    await signIn(other, "lockgate", "Maren");
    expect((await me(other)).person?.id).toBeDefined();
    expect((await me(other)).person?.id).not.toBe(first);
  });
});

const isKnown = (event: TraceEvent) =>
  event.kind === "check" && event.check === "identity.userinfo-subject-mismatch";

describe("two first visits of one person at the same moment", () => {
  it("are one question and one person", async () => {
    let asked = 0;
    await start({
      async welcome({ personId }) {
        asked += 1;
        // Until the other is known as well: from there it is a few promises to this question.
        await expect.poll(() => app!.events.filter(isKnown).length).toBe(2);
        return personId === undefined ? { personId: `member-${asked}` } : {};
      },
    });
    const both = [visitor, createVisitor()];
    for (const each of both) {
      await each.open(`${app!.origin}/sign-in/to/quayside?returnTo=/`);
      await each.press("Maren");
    }
    await Promise.all(both.map((each) => each.press("Yes, allow")));
    const ids = await Promise.all(both.map(async (each) => (await me(each)).person?.id));
    expect([asked, ids]).toEqual([1, ["member-1", "member-1"]]);
  });
});

describe("linking", () => {
  it("gives a person a second way to sign in, and the session a second connection", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    const first = (await me()).person?.id;
    // A page that needs the other provider asks for it until it is there.
    const permits = app!.signIn.protect(() => new Response("permits"), { provider: "lockgate" });
    const shown = async () => {
      const cookie = `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
      return (await permits(new Request(`${app!.origin}/permits`, { headers: { cookie } }))).status;
    };
    expect(await shown()).toBe(401);
    await link(visitor, "lockgate", "Maren");
    expect(await shown()).toBe(200);
    expect(visitor.page?.url).toBe(`${app!.origin}/`);
    expect((await identitiesOf()).map(({ provider }) => provider)).toEqual(["quayside", "lockgate"]);
    const other = createVisitor();
    await signIn(other, "lockgate", "Maren");
    expect((await me(other)).person?.id).toBe(first);
  });

  it("goes on through a step-up: a new session, and what it held at the other provider", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    await link(visitor, "lockgate", "Maren");
    const before = await sessionOf(visitor);
    await visitor.open(`${app!.origin}/sign-in/to/quayside?returnTo=/&maxAge=0`);
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
    const after = await sessionOf(visitor);
    expect(after?.person.id).toBe(before?.person.id);
    expect(await after?.connection("lockgate")).toMatchObject({ status: "active", scope: ["permits.read"] });
    expect(await after?.sessions()).toHaveLength(1);
    expect(await before?.connection("lockgate")).toBeUndefined();
  });

  it("leaves sign-out to the provider that was signed in with, whatever else is linked", async () => {
    await start();
    await signIn(visitor, "lockgate", "Maren");
    await link(visitor, "quayside", "Maren");
    expect(await identitiesOf()).toHaveLength(2);
    const fromLockgate = await visitor.post(`${app!.origin}/sign-in/out`, {});
    expect(fromLockgate.trail.some((url) => url.startsWith(`${practice.issuer}/end-session`))).toBe(true);
    await signIn(visitor, "quayside", "Maren");
    await link(visitor, "lockgate", "Maren");
    const fromQuayside = await visitor.post(`${app!.origin}/sign-in/out`, {});
    expect(fromQuayside.trail[1]).toContain(`${practice.issuer}/end-session?id_token_hint=`);
  });

  it("asks for a fresh sign-in first, and the other provider for one as well", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    const { origin } = app!;
    app!.aheadSeconds = 400;
    const again = await visitor.fetch(`${origin}/sign-in/link/lockgate`, {
      method: "POST",
      headers: { origin },
    });
    expect(again.headers.get("location")).toBe(`${origin}/sign-in/to/quayside?returnTo=%2F&maxAge=300`);
    app!.aheadSeconds = 0;
    const to = async (provider: string) => {
      const answer = await visitor.fetch(`${origin}/sign-in/link/${provider}`, {
        method: "POST",
        headers: { origin },
      });
      return new URL(answer.headers.get("location") ?? "");
    };
    expect((await to("quayside")).searchParams.get("max_age")).toBe("300");
    expect((await to("lockgate")).href.startsWith(practice.lockgate)).toBe(true);
    app!.aheadSeconds = 400;
    expect((await to("lockgate")).pathname).toBe("/sign-in/to/quayside");
  });

  it("is for pages of this app only, and for who is signed in", async () => {
    await start();
    await visitor.post(`${app!.origin}/sign-in/link/lockgate`, { returnTo: "/" });
    expect(visitor.page?.url).toBe(`${app!.origin}/sign-in?returnTo=%2F`);
    await signIn(visitor, "quayside", "Maren");
    await visitor.post(`${app!.origin}/sign-in/link/lockgate`, { returnTo: "/" }, "https://evil.example");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([403, "session.other-origin"]);
    expect((await visitor.open(`${app!.origin}/sign-in/link/lockgate`)).status).toBe(405);
  });

  it("does not take an account from somebody who is known here", async () => {
    await start();
    const other = createVisitor();
    await signIn(other, "lockgate", "Zoë");
    await signIn(visitor, "quayside", "Maren");
    await link(visitor, "lockgate", "Zoë");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([409, "session.identity-taken"]);
    expect(await identitiesOf()).toHaveLength(1);
    expect(await identitiesOf(other)).toHaveLength(1);
  });

  it("fails when the session that asked is not the browser's any more", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    await visitor.post(`${app!.origin}/sign-in/link/lockgate`, { returnTo: "/" });
    // Somebody else signs in in the same browser meanwhile.
    const waiting = visitor.page!;
    visitor.cookies.get("localhost")?.delete("tenonsaw-session");
    await visitor.open(waiting.url);
    await pass(visitor, "Maren");
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([409, "session.link-broken"]);
  });
});

describe("unlinking", () => {
  const unlink = (who: Visitor, { issuer, subject }: IdentityRecord, origin = app!.origin) =>
    who.post(`${app!.origin}/sign-in/unlink`, { issuer, subject, returnTo: "/" }, origin);

  it("takes one way away, signs out who came by it, and keeps the last", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    await link(visitor, "lockgate", "Maren");
    const other = createVisitor();
    await signIn(other, "lockgate", "Maren");
    const [quayside, lockgate] = await identitiesOf();
    await unlink(visitor, lockgate!, "https://evil.example");
    expect(codeOf(visitor)).toBe("session.other-origin");
    expect(await identitiesOf()).toHaveLength(2);
    await unlink(visitor, lockgate!);
    expect(visitor.page?.url).toBe(`${app!.origin}/`);
    expect([(await me()).person?.name, await me(other)]).toEqual(["Maren Holt", {}]);
    // A second press, or another tab, finds it gone; a form that names none is a mistake.
    await unlink(visitor, lockgate!);
    expect(visitor.page?.url).toBe(`${app!.origin}/`);
    await unlink(visitor, { ...lockgate!, subject: "" });
    expect(visitor.page?.text).toContain("Your sign-in or request could not be completed");
    expect(codeOf(visitor)).toBe("session.last-identity");
    await unlink(visitor, quayside!);
    expect([visitor.page?.status, codeOf(visitor)]).toEqual([409, "session.last-identity"]);
    // An account of somebody else's is none of theirs to remove.
    await signIn(other, "lockgate", "Zoë");
    await link(visitor, "lockgate", "Maren");
    await unlink(visitor, (await identitiesOf(other))[0]!);
    expect(codeOf(visitor)).toBe("session.last-identity");
  });

  it("asks for a fresh sign-in first", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    await link(visitor, "lockgate", "Maren");
    const [, lockgate] = await identitiesOf();
    app!.aheadSeconds = 400;
    const { issuer, subject } = lockgate!;
    const { origin } = app!;
    const again = await visitor.fetch(`${origin}/sign-in/unlink`, {
      method: "POST",
      headers: { origin },
      body: new URLSearchParams({ issuer, subject, returnTo: "/" }),
    });
    expect(again.headers.get("location")).toBe(`${origin}/sign-in/to/quayside?returnTo=%2F&maxAge=300`);
    expect(await identitiesOf()).toHaveLength(2);
  });

  it("works from a page that tells nobody where it is, and from no other that does so", async () => {
    await start();
    await signIn(visitor, "quayside", "Maren");
    await link(visitor, "lockgate", "Maren");
    const [, lockgate] = await identitiesOf();
    const { issuer, subject } = lockgate!;
    const from = async (site: string | undefined) => {
      const answer = await visitor.fetch(`${app!.origin}/sign-in/unlink`, {
        method: "POST",
        // What a browser sends from a page with the policy no-referrer, and from a frame in a sandbox.
        headers: { origin: "null", ...(site !== undefined && { "sec-fetch-site": site }) },
        body: new URLSearchParams({ issuer, subject, returnTo: "/" }),
      });
      return answer.status;
    };
    for (const site of ["cross-site", "same-site", "none", undefined]) expect(await from(site)).toBe(403);
    expect([await from("same-origin"), (await identitiesOf()).length]).toEqual([303, 1]);
  });

  it("is for who is signed in", async () => {
    await start();
    await unlink(visitor, { issuer: practice.issuer, subject: "qs-10231" } as IdentityRecord);
    expect(visitor.page?.url).toBe(`${app!.origin}/sign-in?returnTo=%2F`);
  });
});
