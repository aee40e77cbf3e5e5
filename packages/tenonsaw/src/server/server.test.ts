import { createHash } from "node:crypto";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { createTestKey } from "../../../../tests/support/fake-world.js";
import { startApp, type App } from "../../../../tests/support/start-app.js";
import { forExpress } from "tenonsaw/express";
import { forFastify } from "tenonsaw/fastify";
import { forHono } from "tenonsaw/hono";
import { forKoa } from "tenonsaw/koa";
import { toRequest, writeResponse } from "tenonsaw/node";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createPlatform } from "tenonsaw/platform";
import { fail } from "../problem/index.js";
import { createSignIn, readSettingsText, type Needs, type Wish } from "./index.js";

let practice: Practice;
let app: App;
let visitor: Visitor;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256", lifetimes: { accessTokenSeconds: 10 } });
});
afterAll(() => practice.stop());

/** How the store knows the visitor's session. */
async function storedSessionId(): Promise<string> {
  const value = visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? "";
  const id = createHash("sha256").update(`${app.origin}/sign-in ${value}`).digest("base64url");
  expect(await app.store.findSession(id)).toBeDefined();
  return id;
}

/** Up to the point where the provider would send the browser back; returns that address. */
async function comeBack(who = visitor, target = app, returnTo = "/tides"): Promise<string> {
  await who.open(`${target.origin}/sign-in/to/quayside?returnTo=${returnTo}`);
  if (who.page?.text.includes("Pick a made-up member")) await who.press("Maren");
  const request = /name="request" value="([^"]+)"/.exec(who.page?.text ?? "")?.[1] ?? "";
  const answer = await who.fetch(`${practice.issuer}/authorize/decision`, {
    method: "POST",
    body: new URLSearchParams({ request, decision: "allow" }),
  });
  return answer.headers.get("location") ?? "";
}

async function signIn(who = visitor): Promise<void> {
  await who.open(await comeBack(who));
}

describe("a server app", () => {
  beforeAll(async () => {
    app = await startApp(practice, { pages: { declined: "/changed-your-mind" } });
  });
  afterAll(() => app.stop());
  beforeEach(() => {
    visitor = createVisitor();
    app.aheadSeconds = 0;
    app.events.length = 0;
  });
  const failure = async (url: string, who = visitor) => {
    const page = await who.open(url);
    return { status: page.status, code: /\(([a-z]+\.[a-z-]+)\)/.exec(page.text)?.[1], text: page.text };
  };

  it("takes a visitor of a protected page to sign in and back to that page", async () => {
    await visitor.open(`${app.origin}/tides?day=2`);
    expect(visitor.page?.url).toBe(`${app.origin}/sign-in?returnTo=%2Ftides%3Fday%3D2`);
    await visitor.press("Sign in with Quayside ID");
    await visitor.press("Zoë");
    const page = await visitor.press("Yes, allow");
    expect(page.url).toBe(`${app.origin}/tides?day=2`);
    expect(JSON.parse(page.text)).toMatchObject({ place: "Ferrywell landing" });
    const me = JSON.parse((await visitor.open(app.origin)).text) as object;
    expect(me).toMatchObject({
      person: { name: "Zoë Łukasińska-Ōta", email: "zoe@ferrywell.example" },
      connection: { scope: ["openid", "profile", "email", "offline_access", "tides.read"], refreshCount: 0 },
    });
  });

  it("takes no store that is none, and no request of a framework's own", async () => {
    const settings = {
      origin: app.origin,
      keys: Buffer.alloc(32, 1).toString("base64url"),
      providers: { quayside: { issuer: practice.issuer, clientId: "ferrywell" } },
    };
    for (const store of [undefined, null, "sqlite:app.db", { get: () => 1 }, { ...app.store, addAttempt: 1 }])
      await expect(createSignIn({ ...settings, store: store as never })).rejects.toMatchObject({
        problem: { code: "provider.settings-refused", findings: [{ path: "store" }] },
      });
    for (const [name, value] of Object.entries({
      welcome: "yes",
      limitRate: 5,
      onProblem: true,
      trace: {},
      platform: { fetch },
    }))
      await expect(createSignIn({ ...settings, store: app.store, [name]: value })).rejects.toMatchObject({
        problem: { code: "provider.settings-refused", findings: [{ path: name }] },
      });
    const platform = createPlatform({ clock: () => 0 } as never);
    await expect(createSignIn({ ...settings, store: app.store, platform })).rejects.toThrow(
      "at platform.clock: is no part of a platform",
    );
    for (const none of [undefined, new Request(app.origin)] as never[])
      expect(() => toRequest(none, {} as never)).toThrow("a request of node:http");
    await expect(writeResponse({} as never, new Response())).rejects.toThrow("(server.unfit-argument)");
    expect(() => readSettingsText({} as never, "f")).toThrow("the text of a settings file");
    for (const none of [undefined, "tenonsaw.config.json"] as never[])
      await expect(createSignIn(none)).rejects.toThrow("(provider.settings-refused)");
    // What readSettingsFile gives holds the settings, and is not them.
    const whole = { settings, environments: [], isProduction: false, warnings: [] } as never;
    await expect(createSignIn(whole)).rejects.toThrow("at settings: holds the settings");
    for (const [providers, message] of [
      [[settings.providers.quayside], /at providers: must be an object, with names, and is a list/],
      [
        { "Quayside ID": settings.providers.quayside },
        /at providers\.Quayside ID: must be a name of.*characters$/m,
      ],
    ] as const)
      await expect(
        createSignIn({ ...settings, providers: providers as never, store: app.store }),
      ).rejects.toThrow(message);
    const foreign = { headers: { cookie: "" }, url: "/sign-in" } as never;
    for (const work of [() => app.signIn.handle(foreign), () => app.signIn.session(foreign)])
      await expect(work()).rejects.toMatchObject({ problem: { code: "server.not-a-request" } });
    for (const none of [undefined, new Request(app.origin)] as never[])
      expect(() => app.signIn.answers(none)).toThrow("(server.unfit-argument)");
    // Why it was to be explained counts for more.
    expect(app.signIn.explain(new TypeError("no tides today"), foreign).status).toBe(500);
  });

  it.each<[string, unknown, string]>([
    ["a name that nobody knows", { scopes: "slots.write" }, "needs.scopes"],
    ["a text", "slots.write", "needs"],
    ["an empty text", { acrValues: "" }, "needs.acrValues"],
    ["a variable that is not set", { scope: undefined }, "needs.scope"],
    ["an age that is a text", { maxAge: "300" }, "needs.maxAge"],
    ["not there yet", Promise.resolve({ maxAge: 300 }), "needs"],
    ["an error", new Error("none"), "needs"],
    ["a map", new Map([["maxAge", 300]]), "needs"],
  ])("writes no page for needs that are %s", (_, said, path) => {
    const needs = said as Needs;
    const pages = [
      () => app.signIn.protect(() => null!, needs),
      () => forExpress(app.signIn).protect(() => null!, needs),
      () => forFastify(app.signIn).protect(() => null!, needs),
      () => forKoa(app.signIn).protect(() => null!, needs),
      () => forHono(app.signIn).protect(() => null!, needs),
    ];
    for (const page of pages) expect(page).toThrow(`at ${path}: `);
  });

  it.each<[string, unknown, string]>([
    ["a text", "quayside", "wish"],
    ["a name that nobody knows", { provider: "quayside", scopes: "slots.write" }, "wish.scopes"],
    ["a list of scopes", { provider: "quayside", scope: ["slots.write"] }, "wish.scope"],
    ["a provider that is not there", { provider: "quaside" }, "wish.provider"],
    ["no provider", { scope: "slots.write" }, "wish.provider"],
  ])("asks nobody for %s", (_, wish, path) => {
    const request = new Request(`${app.origin}/tides`);
    expect(() => app.signIn.ask(request, wish as Wish)).toThrow(`at ${path}: `);
  });

  it.each([undefined, null, "", 7])("ends no session whose ID is %j, and says so", async (id) => {
    await expect(app.signIn.endSession(id as never)).rejects.toThrow("(session.id-unusable)");
  });

  it("passes an API's answer on without how it was packed, its cookies, or its rules for browsers", async () => {
    await signIn();
    const { person } = JSON.parse((await visitor.open(app.origin)).text) as { person: { id: string } };
    const own = await app.signIn.fetchFor(person.id, "tidebook", "/tides/today");
    const told = ["content-encoding", "set-cookie", "content-type"].map((name) => own.headers.get(name));
    expect(told).toEqual(["gzip", expect.stringContaining("tidebook=seen"), "application/json"]);
    const passed = await visitor.fetch(`${app.origin}/tides`);
    expect(Object.fromEntries(passed.headers)).toMatchObject({
      "content-type": "application/json",
      "cache-control": "no-store",
      "content-security-policy": "default-src 'none'; sandbox",
    });
    for (const name of ["content-encoding", "set-cookie", "access-control-allow-origin"])
      expect(passed.headers.get(name)).toBeNull();
    expect(await passed.json()).toMatchObject({ place: "Ferrywell landing" });
    // As they came, neither goes on: also what nobody has compressed has the API's cookies.
    const cookie = `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
    for (const answer of [own, await app.signIn.fetch("slipway", "/status")]) {
      const page = app.signIn.protect(() => answer);
      const refused = await page(new Request(`${app.origin}/tides`, { headers: { cookie } }));
      expect(refused.headers.get("tenonsaw-problem")).toBe("server.not-a-response");
      // Whoever makes JSON of one in place of its content reads so, and not `{}`.
      expect(JSON.stringify({ answer })).toContain("await answer.json()");
    }
    const call = app.signIn.fetchFor(person.id, "tidebook", "/tides/today");
    expect(JSON.stringify(call)).toContain("put `await` before the call");
    await call;
  });

  it("calls an API for a person who is not here, and for nobody that it does not know", async () => {
    await signIn();
    const { person } = JSON.parse((await visitor.open(app.origin)).text) as { person: { id: string } };
    const answer = await app.signIn.fetchFor(person.id, "tidebook", "/tides/today");
    expect(await answer.json()).toMatchObject({ place: "Ferrywell landing" });
    await expect(app.signIn.fetchFor("nobody", "tidebook", "/tides/today")).rejects.toMatchObject({
      problem: { code: "connection.none" },
    });
  });

  it("gives one person one record, and each sign-in a session ID of its own", async () => {
    const who = async () =>
      (JSON.parse((await visitor.open(app.origin)).text) as { person: { id: string } }).person.id;
    await signIn();
    const [first, firstCookie] = [
      await who(),
      visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? "",
    ];
    await signIn();
    expect(await who()).toBe(first);
    const cookie = visitor.cookies.get("localhost")?.get("tenonsaw-session");
    expect(cookie).not.toBe(firstCookie);
    // The session before it is over: its cookie opens nothing.
    visitor.cookies.get("localhost")?.set("tenonsaw-session", firstCookie);
    expect(JSON.parse((await visitor.open(app.origin)).text)).toEqual({});
  });

  it("sets cookies that scripts cannot read", async () => {
    const answer = await visitor.fetch(`${app.origin}/sign-in/to/quayside`);
    expect(answer.headers.get("set-cookie")).toMatch(
      /^tenonsaw-browser=[\w-]{43}; Max-Age=3600; Path=\/; HttpOnly; SameSite=Lax$/,
    );
  });

  it("refreshes once for many calls at the same time", async () => {
    await signIn();
    app.aheadSeconds = 20;
    const calls = await Promise.all(Array.from({ length: 10 }, () => visitor.fetch(`${app.origin}/tides`)));
    expect(calls.map(({ status }) => status)).toEqual(Array(10).fill(200));
    expect(
      app.events.filter((event) => event.kind === "leg" && event.leg === "refresh request"),
    ).toHaveLength(1);
    const { connection } = JSON.parse((await visitor.open(app.origin)).text) as { connection: object };
    expect(connection).toMatchObject({ refreshCount: 1, status: "active" });
  });

  it("calls an API as itself, without anybody signed in", async () => {
    const answer = await app.signIn.fetch("slipway", "/status");
    expect(await answer.json()).toMatchObject({ gate: "open", asked: "ferrywell" });
    await expect(app.signIn.fetch("crane", "/")).rejects.toMatchObject({
      problem: { code: "connection.api-unknown" },
    });
    await expect(app.signIn.fetch("tidebook", "/")).rejects.toMatchObject({
      problem: { code: "connection.no-client-scope" },
    });
    const read = new Response("Heron").body!;
    read.getReader();
    const odd: [args: readonly unknown[], problem: object][] = [
      [["/status"], { code: "connection.api-unknown", because: "address" }],
      [[undefined], { code: "connection.api-unknown", received: "undefined" }],
      [["slipway"], { code: "connection.other-origin", because: "no-path" }],
      [
        ["slipway", "/status", { method: "POST", body: { boat: "Heron" } }],
        { code: "connection.body-unusable" },
      ],
      [["slipway", "/status", { method: "POST", body: ["Heron"] }], { received: "a list" }],
      [["slipway", "/status", { method: "HEAD", body: "Heron" }], { because: "without-method" }],
      [["slipway", "/status", { method: "POST", body: read }], { because: "read-already" }],
      ...["GE T", "", 7, "TRACE"].map((method): [unknown[], object] => [
        ["slipway", "/status", { method }],
        { code: "connection.call-unusable", received: expect.stringContaining("the method") as string },
      ]),
      ...[{ boat: "Heron\nb" }, [["boat", "Łódź"]], new Map([["boat", "a\0"]])].map(
        (headers): [unknown[], object] => [
          ["slipway", "/status", { headers }],
          { code: "connection.call-unusable", received: 'the header "boat"' },
        ],
      ),
      [["slipway", "/status", { headers: "boat: Heron" }], { received: "headers that are none" }],
      [["slipway", new URL(app.origin)], { code: "connection.other-origin", because: "not-text" }],
      ...[null, "POST", { signal: "soon" }, { redirect: "never" }].map((init): [unknown[], object] => [
        ["slipway", "/status", init],
        { code: "connection.call-unusable", because: "options" },
      ]),
      ...["acount", "accountId", "connectionId"].map((name): [unknown[], object] => [
        ["slipway", "/status", { [name]: "fw-club" }],
        { code: "connection.call-unusable", because: "account", received: `the member "${name}"` },
      ]),
      ...["json", "query", "timeoutSeconds"].map((name): [unknown[], object] => [
        ["slipway", "/status", { [name]: {} }],
        { code: "connection.call-unusable", because: "habit", received: `the member "${name}"` },
      ]),
      [
        ["slipway", "/status", { headers: { Authorization: "Bearer own" } }],
        { code: "connection.call-unusable", because: "authorization" },
      ],
    ];
    for (const [args, problem] of odd)
      await expect(app.signIn.fetch(...(args as ["slipway", "/"]))).rejects.toMatchObject({ problem });
  });

  it("signs out here and at the provider", async () => {
    await signIn();
    const page = await visitor.post(`${app.origin}/sign-in/out`, {});
    expect(page.trail[1]).toContain(`${practice.issuer}/end-session?id_token_hint=`);
    expect(page.url).toBe(`${app.origin}/`);
    expect(JSON.parse(page.text)).toEqual({});
    await visitor.open(`${app.origin}/sign-in/to/quayside`);
    expect(visitor.page?.text).toContain("Pick a made-up member");
  });

  it.each([
    ["another site", { origin: "https://evil.example" }],
    ["an opaque origin", { origin: "null" }],
    ["a neighbouring port", { origin: "http://localhost:1" }],
    ["a sender that does not say", {}],
    ["a cross-site sender without Origin", { "sec-fetch-site": "cross-site" }],
  ])("is not signed out by %s", async (_, headers) => {
    await signIn();
    const answer = await visitor.fetch(`${app.origin}/sign-in/out`, { method: "POST", headers });
    expect([answer.status, answer.headers.get("set-cookie")]).toEqual([403, null]);
    expect(JSON.parse((await visitor.open(app.origin)).text)).toHaveProperty("person");
  });

  it("sends somebody who said no to the app's own page, with the way back", async () => {
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/tides`);
    await visitor.press("Maren");
    const page = await visitor.press("No, not now");
    expect(page.url).toBe(`${app.origin}/changed-your-mind?returnTo=%2Ftides`);
    expect(visitor.cookies.get("localhost")?.has("tenonsaw-session")).toBe(false);
  });

  describe("tells apart why a callback does not fit", () => {
    it("the state was altered", async () => {
      const url = new URL(await comeBack());
      url.searchParams.set("state", "A".repeat(43));
      expect(await failure(url.href)).toMatchObject({ status: 400, code: "response.state-altered" });
    });

    it("the cookie did not come back", async () => {
      const url = await comeBack();
      visitor.cookies.clear();
      const { code, text } = await failure(url);
      expect(code).toBe("response.cookie-missing");
      expect(text).toContain("takes the header Cookie out");
    });

    it("the sign-in began at another host", async () => {
      const { port } = new URL(app.origin);
      await visitor.fetch(`${app.origin}/`);
      const begun = await fetch(`${app.origin}/sign-in/to/quayside`, { redirect: "manual" });
      expect(begun.status).toBe(303);
      // What a browser does at 127.0.0.1: its cookie stays there, and the callback comes to localhost without it.
      const other = await app.signIn.handle(
        new Request(`${app.origin}/sign-in/to/quayside`, { headers: { host: `127.0.0.1:${port}` } }),
      );
      const state = new URL(other?.headers.get("location") ?? "").searchParams.get("state") ?? "";
      const { code, text } = await failure(`${app.origin}/sign-in/from/quayside?code=x&state=${state}`);
      expect(code).toBe("response.other-host");
      expect(text).toContain(`127.0.0.1:${port}`);
      expect(text).toContain(`<dt>origin</dt><dd>is &quot;${app.origin}&quot;</dd>`);
      // Where it ends where it began, that is not what is wrong.
      const request = new Request(`${app.origin}/sign-in/from/quayside?code=x&state=${state}`, {
        headers: { host: `127.0.0.1:${port}` },
      });
      expect(await (await app.signIn.handle(request))?.text()).toContain("(response.cookie-missing)");
    });

    it("it belongs to another browser", async () => {
      const stranger = createVisitor();
      await stranger.open(`${app.origin}/sign-in/to/quayside`);
      const url = await comeBack();
      expect(await failure(url, stranger)).toMatchObject({ code: "response.other-browser" });
      // And the one whose it is can still use it.
      expect((await visitor.open(url)).url).toBe(`${app.origin}/tides`);
    });

    it("it came too late, and so the session is not opened", async () => {
      const url = await comeBack();
      app.aheadSeconds = 601;
      expect(await failure(url)).toMatchObject({ code: "response.attempt-too-old" });
      expect(visitor.cookies.get("localhost")?.has("tenonsaw-session")).toBe(false);
    });

    it("it was used already; but whoever is signed in by it goes to their page", async () => {
      const url = await comeBack();
      expect((await visitor.open(url)).url).toBe(`${app.origin}/tides`);
      expect((await visitor.open(url)).url).toBe(`${app.origin}/tides`);
      app.aheadSeconds = 60;
      expect((await visitor.open(url)).url).toBe(`${app.origin}/tides`);
      app.aheadSeconds = 0;
      visitor.cookies.get("localhost")?.delete("tenonsaw-session");
      // A moment later its cookie may still be on its way; after that it is gone.
      expect((await visitor.fetch(url)).headers.get("location")).toBe(`${app.origin}/tides`);
      app.aheadSeconds = 6;
      expect(await failure(url)).toMatchObject({ code: "response.attempt-used" });
    });

    it("it was bookmarked", async () => {
      expect(await failure(`${app.origin}/sign-in/from/quayside`)).toMatchObject({ code: "response.empty" });
    });

    it("it came twice at once: one gets in, and all go to the page", async () => {
      const url = await comeBack();
      const answers = await Promise.all([visitor.fetch(url), visitor.fetch(url), visitor.fetch(url)]);
      const sessions = answers.filter((answer) =>
        answer.headers.get("set-cookie")?.includes("tenonsaw-session="),
      );
      expect(sessions).toHaveLength(1);
      for (const { headers } of answers) expect(headers.get("location")).toBe(`${app.origin}/tides`);
    });
  });

  it("lets several sign-ins be open in one browser", async () => {
    const pages = ["/tides", "/tides?day=2", "/tides?day=3"];
    for (const page of pages) await visitor.fetch(`${app.origin}/sign-in/to/quayside?returnTo=${page}`);
    const urls: string[] = [];
    for (const page of pages) urls.unshift(await comeBack(visitor, app, page));
    expect(new Set(urls).size).toBe(3);
    const arrived = [];
    for (const url of urls) arrived.unshift((await visitor.open(url)).url);
    expect(arrived).toEqual(pages.map((page) => app.origin + page));
    expect(
      [...(visitor.cookies.get("localhost")?.keys() ?? [])].filter((name) => name.startsWith("tenonsaw")),
    ).toHaveLength(2);
  });

  it("begins one sign-in where somebody clicks twice; and another once that one is answered, or a second later", async () => {
    const begin = async (who = visitor, page = "/tides") =>
      (await who.fetch(`${app.origin}/sign-in/to/quayside?returnTo=${page}`)).headers.get("location");
    const first = await begin();
    const [second, third] = await Promise.all([begin(), begin()]);
    expect(first).not.toBe(second);
    expect(second).toBe(third);
    expect(await begin(visitor, "/boats")).not.toBe(second);
    const stranger = createVisitor();
    expect(await begin(stranger)).not.toBe(second);
    await visitor.open(await comeBack());
    expect(await begin()).not.toBe(second);
  });

  it("shows a provider's error as text, not as markup", async () => {
    const begun = await visitor.fetch(`${app.origin}/sign-in/to/quayside`);
    const state = new URL(begun.headers.get("location") ?? "").searchParams.get("state") ?? "";
    const query = new URLSearchParams({
      state,
      iss: practice.issuer,
      error: "invalid_request",
      error_description: "<img src=x onerror=alert(1)>\"'&",
    });
    const { code, text } = await failure(`${app.origin}/sign-in/from/quayside?${query}`);
    expect(code).toBe("response.provider-error");
    expect(text).toContain("&lt;img src=x onerror=alert(1)&gt;");
    expect(text).not.toContain("<img");
  });

  it("answers on its pages with headers that keep them to themselves", async () => {
    const { headers } = await visitor.open(`${app.origin}/sign-in`);
    expect(headers.get("content-security-policy")).toMatch(
      /^default-src 'none'; style-src 'sha256-[^']+'; .*frame-ancestors 'none'$/,
    );
    expect([headers.get("cache-control"), headers.get("referrer-policy")]).toEqual([
      "no-store",
      "no-referrer",
    ]);
  });

  it.each([
    ["an unknown provider", "/sign-in/to/nowhere", 404, "provider.unknown"],
    ["a provider name every object has", "/sign-in/to/constructor", 404, "provider.unknown"],
    ["an unknown route", "/sign-in/elsewhere", 404, "server.route-unknown"],
    ["a route with more behind it", "/sign-in/to/quayside/x", 404, "server.route-unknown"],
    ["signing out by GET", "/sign-in/out", 405, "server.method-refused"],
    [
      "a return path to another origin",
      "/sign-in?returnTo=//evil.example",
      400,
      "server.return-path-refused",
    ],
    [
      "the same at the start",
      "/sign-in/to/quayside?returnTo=https://evil.example",
      400,
      "server.return-path-refused",
    ],
  ])("refuses %s", async (_, path, status, code) => {
    expect(await failure(app.origin + path)).toMatchObject({ status, code });
  });

  it("is not impressed by cookies that are tampered with, cut, doubled or huge", async () => {
    await signIn();
    const jar = visitor.cookies.get("localhost");
    const value = jar?.get("tenonsaw-session") ?? "";
    for (const tampered of [
      value.slice(1),
      `${value}A`,
      value.replace(/.$/, (end) => (end === "A" ? "B" : "A")),
      "%00",
      "",
      "undefined",
    ]) {
      jar?.set("tenonsaw-session", tampered);
      expect(JSON.parse((await visitor.open(app.origin)).text)).toEqual({});
    }
    const request = (cookie: string) => new Request(`${app.origin}/sign-in`, { headers: { cookie } });
    expect(
      await app.signIn.session(request(`tenonsaw-session=${value}; padding=${"x".repeat(20_000)}`)),
    ).toBeUndefined();
    expect((await app.signIn.handle(request(`padding=${"x".repeat(20_000)}`)))?.status).toBe(431);
    const long = new Request(`${app.origin}/sign-in?returnTo=/${"x".repeat(20_000)}`);
    expect((await app.signIn.handle(long))?.status).toBe(431);
  });

  it("answers with a page where a proxy names an origin that is not the app's, and does not throw", async () => {
    await app.stop();
    app = await startApp(practice, { proxies: { header: "x-forwarded", hops: 1 } });
    const headers = { "x-forwarded-for": "192.0.2.1", "x-forwarded-host": "evil.example" };
    const answer = await app.signIn.handle(new Request(`${app.origin}/sign-in`, { headers }));
    expect([answer?.status, await answer?.text()]).toEqual([
      421,
      expect.stringContaining("server.origin-unknown") as string,
    ]);
    await app.stop();
    app = await startApp(practice);
  });

  it("answers 401 instead of a page to a request that is not for a page", async () => {
    const asked = app.signIn.ask(
      new Request(`${app.origin}/api/tides`, { headers: { accept: "application/json" } }),
    );
    expect([asked.status, await asked.json()]).toEqual([401, { signIn: "/sign-in" }]);
    expect(asked.headers.get("www-authenticate")).toBe(`SignIn realm="${app.origin}"`);
    // An address that is too long to come back to is cut, not refused.
    const long = (path: string) =>
      app.signIn
        .ask(new Request(app.origin + path, { headers: { accept: "text/html" } }))
        .headers.get("location");
    expect(long(`/tides?${"x".repeat(400)}`)).toBe(`${app.origin}/sign-in?returnTo=%2Ftides`);
    expect(long(`/${"x".repeat(400)}`)).toBe(`${app.origin}/sign-in?returnTo=%2F`);
    expect(
      app.signIn.ask(new Request(`${app.origin}/x`, { method: "POST", headers: { accept: "text/html" } }))
        .status,
    ).toBe(401);
  });

  it("says in development that people are sent to sign in and nobody answers there, and not where somebody does", async () => {
    for (const [development, isAnswered, said] of [
      [true, false, ["server.routes-unreached"]],
      [true, true, []],
      [false, false, []],
    ] as const) {
      let now = 0;
      const codes: string[] = [];
      const signIn = await createSignIn({
        origin: "http://localhost:5173",
        keys: Buffer.alloc(32, 7).toString("base64url"),
        store: createMemoryStore(),
        providers: { quayside: { issuer: practice.issuer, clientId: "ferrywell" } },
        development,
        platform: createPlatform({ monotonic: () => now }),
        onProblem: ({ problem }) => codes.push(problem.code),
      });
      const page = () =>
        signIn.ask(new Request("http://localhost:5173/tides", { headers: { accept: "text/html" } }));
      page();
      page();
      if (isAnswered) await signIn.handle(new Request("http://localhost:5173/sign-in"));
      expect(codes).toEqual([]);
      for (now of [1, 2, 3]) page();
      expect(codes).toEqual(said);
    }
  });

  it("leaves other addresses to the app, also those that only begin like its own", async () => {
    for (const path of ["/", "/sign-inner", "/sign-in.html", "/x/sign-in"]) {
      expect(await app.signIn.handle(new Request(app.origin + path))).toBeUndefined();
    }
  });

  it("answers its own addresses however they are spelt, where a request does not spell them out itself", async () => {
    await app.stop();
    app = await startApp(practice, { basePath: "/auth/sign-in" });
    for (const path of [
      "/auth/sign-in",
      "/auth/./sign-in",
      "/auth/%2E/sign-in",
      "/auth/x/../sign-in",
      "/auth\\sign-in",
    ]) {
      const request = new Request(app.origin);
      Object.defineProperty(request, "url", { value: app.origin + path });
      expect([path, (await app.signIn.handle(request))?.status]).toEqual([path, 200]);
    }
    await app.stop();
    app = await startApp(practice);
  });

  it("sweeps out of the store what is over, once a minute at the most", async () => {
    await signIn();
    const id = await storedSessionId();
    app.aheadSeconds = 604_801;
    await visitor.open(`${app.origin}/sign-in/to/quayside`);
    expect(await app.store.findSession(id)).toBeUndefined();
  });

  it("ends a session when its time is over", async () => {
    await signIn();
    app.aheadSeconds = 604_801;
    expect(JSON.parse((await visitor.open(app.origin)).text)).toEqual({});
  });

  it("puts no secret into the trace, whatever happens", async () => {
    await signIn();
    app.aheadSeconds = 20;
    await visitor.open(`${app.origin}/tides`);
    const cookies = [...(visitor.cookies.get("localhost")?.entries() ?? [])].filter(([name]) =>
      name.startsWith("tenonsaw"),
    );
    await visitor.post(`${app.origin}/sign-in/out`, {});
    await comeBack();
    // The code challenge is meant to be seen: it is what hides the verifier.
    const told = JSON.stringify(app.events).replace(/code_challenge=[\w-]{43}/g, "");
    expect(app.events.length).toBeGreaterThan(20);
    expect(told).not.toMatch(/eyJ[\w-]+\./);
    for (const secret of [practice.client.clientSecret ?? "", ...cookies.map(([, value]) => value)]) {
      expect(secret.length).toBeGreaterThan(8);
      expect(told).not.toContain(secret);
    }
    // Codes, states, nonces, verifiers, refresh tokens: 43 characters of base64url each.
    expect(told.match(/[A-Za-z0-9_-]{43,}/g) ?? []).toEqual([]);
  });
});

describe("a server app in production", () => {
  it("tells a visitor that it did not work, and no more", async () => {
    const production = await startApp(practice, { development: false });
    const page = await createVisitor().open(`${production.origin}/sign-in/from/quayside?code=x&state=y`);
    await production.stop();
    expect(page.status).toBe(400);
    expect(page.text).toContain("You can try again. (response.state-altered)");
    expect(page.text).not.toMatch(/<dl>|Expected|processes/);
  });

  it("sends failures to the app's own page, with the code", async () => {
    const pages = { failed: "/sorry?lang=en", chooser: "/welcome" };
    const production = await startApp(practice, { development: false, pages });
    const someone = createVisitor();
    const failed = await someone.open(`${production.origin}/sign-in/from/quayside`);
    const chooser = await someone.open(`${production.origin}/sign-in?returnTo=/tides`);
    await production.stop();
    expect(failed.url).toBe(`${production.origin}/sorry?lang=en&problem=response.empty`);
    expect(chooser.url).toBe(`${production.origin}/welcome?returnTo=%2Ftides`);
  });

  it("uses __Host- cookies, Secure, on https", async () => {
    const production = await startApp(practice, { origin: "https://ferrywell.example" });
    const answer = await production.signIn.handle(
      new Request("https://ferrywell.example/sign-in/to/quayside"),
    );
    await production.stop();
    expect(answer?.headers.get("set-cookie")).toMatch(
      /^__Host-tenonsaw-browser=[\w-]{43}; Max-Age=3600; Path=\/; HttpOnly; Secure; SameSite=Lax$/,
    );
  });

  it("starts, and serves others, while a provider is down", async () => {
    const gone = await startPractice({ algorithm: "EdDSA" });
    await gone.stop();
    const production = await startApp(gone);
    const page = await createVisitor().open(`${production.origin}/sign-in/to/quayside`);
    const chooser = await createVisitor().open(`${production.origin}/sign-in`);
    await production.stop();
    expect([page.status, chooser.status]).toEqual([502, 200]);
    expect(page.text).toContain("ECONNREFUSED");
  });
});

describe("the key set of an app", () => {
  it("publishes the public parts of its signing keys, and an empty set where it has none", async () => {
    const keySet = async (target: App) => {
      const answer = await fetch(`${target.origin}/sign-in/keys`);
      return { type: answer.headers.get("content-type"), body: (await answer.json()) as unknown };
    };
    const plain = await startApp(practice);
    expect(await keySet(plain)).toEqual({ type: "application/json", body: { keys: [] } });
    await plain.stop();
    const key = createTestKey("ES256", "2026-11");
    const clientKeys = JSON.stringify(key.privateJwk);
    const settings = { issuer: practice.issuer, clientId: "ferrywell", clientKeys };
    const signing = await startApp(practice, {
      providers: { quayside: settings, harbour: settings },
      apis: {},
    });
    expect(await keySet(signing)).toMatchObject({ body: { keys: [key.publicJwk] } });
    await signing.stop();
  });
});

describe("sign-out that begins at the provider", () => {
  let back: string;
  const problems: unknown[] = [];
  beforeAll(async () => {
    app = await startApp(practice, {
      onProblem: ({ problem }) => void problems.push([problem.code, problem.because]),
    });
    back = `${app.origin}/sign-in/back-channel/quayside`;
  });
  afterAll(() => app.stop());
  const register = (parts: object) => {
    practice.register({ ...defaultClient, redirectUris: [`${app.origin}/sign-in/from/quayside`], ...parts });
  };
  const isSignedIn = async (who: Visitor) =>
    "person" in (JSON.parse((await who.open(app.origin)).text) as object);
  const leaveProvider = async (who: Visitor) => {
    await who.open(`${practice.issuer}/end-session`);
    return who.press("Sign out");
  };

  it("is told from server to server, and ends that session and no other", async () => {
    register({ backChannelLogoutUri: back });
    const [first, second] = [createVisitor(), createVisitor()];
    await signIn(first);
    await signIn(second);
    expect([await isSignedIn(first), await isSignedIn(second)]).toEqual([true, true]);
    expect((await leaveProvider(first)).text).toContain("You are signed out of Quayside ID");
    expect([await isSignedIn(first), await isSignedIn(second)]).toEqual([false, true]);
  });

  it("is told in a frame, which only the provider may show", async () => {
    register({ frontChannelLogoutUri: `${app.origin}/sign-in/front-channel/quayside` });
    const who = createVisitor();
    await signIn(who);
    const page = await leaveProvider(who);
    const src = /<iframe src="([^"]+)"/.exec(page.text)?.[1]?.replaceAll("&amp;", "&") ?? "";
    const answer = await fetch(src);
    expect(answer.headers.get("content-security-policy")).toContain(`frame-ancestors ${practice.issuer}`);
    expect(answer.headers.get("referrer-policy")).toBe("no-referrer");
    expect(answer.headers.get("x-content-type-options")).toBe("nosniff");
    expect(await isSignedIn(who)).toBe(false);
  });

  const tell = async (logout_token: string, target = back) => {
    const answer = await fetch(target, { method: "POST", body: new URLSearchParams({ logout_token }) });
    return { status: answer.status, cache: answer.headers.get("cache-control"), text: await answer.text() };
  };
  /** What the provider tells when this visitor leaves it, kept from the app for now. */
  const catchNotice = async (who: Visitor) => {
    let told = "";

    const catcher = createServer((incoming, outgoing) => {
      incoming.on("data", (chunk: Buffer) => (told += chunk.toString()));
      outgoing.end();
    });
    await new Promise<void>((resolve) => catcher.listen(0, "localhost", resolve));
    const { port } = catcher.address() as AddressInfo;
    register({ backChannelLogoutUri: `http://localhost:${port}/` });
    await signIn(who);
    await leaveProvider(who);
    catcher.close();
    expect(await isSignedIn(who)).toBe(true);
    return new URLSearchParams(told).get("logout_token") ?? "";
  };

  it("follows a notice once, and no notice that is not the provider's", async () => {
    const who = createVisitor();
    const token = await catchNotice(who);

    const [head = "", body = "", signature = ""] = token.split(".");
    expect((await tell(`${head}.${body}.${signature.slice(0, -4)}AAAA`)).status).toBe(400);
    expect((await tell("nonsense")).status).toBe(400);
    const empty = await fetch(back, { method: "POST", body: new URLSearchParams({ token }) });
    expect([empty.status, problems.at(-1)]).toEqual([400, ["identity.logout-token-refused", "absent"]]);
    const json = await fetch(back, { method: "POST", body: JSON.stringify({ logout_token: token }) });
    expect([json.status, problems.at(-1)]).toEqual([400, ["server.body-no-form", undefined]]);
    expect((await tell(token, back.replace("quayside", "nobody"))).status).toBe(400);
    expect(await isSignedIn(who)).toBe(true);
    expect(await tell(token)).toEqual({ status: 200, cache: "no-store", text: "{}" });
    expect(await isSignedIn(who)).toBe(false);
    const again = await tell(token);
    expect([again.status, problems.at(-1)]).toEqual([400, ["identity.logout-token-refused", "again"]]);
  });

  it("is followed when it is told again, where the store was away the first time", async () => {
    const who = createVisitor();
    const token = await catchNotice(who);
    const away = vi
      .spyOn(app.store, "endSession")
      .mockImplementationOnce(() => Promise.resolve().then(() => fail("store.unavailable", {})));
    expect((await tell(token)).status).toBe(503);
    away.mockRestore();
    expect(await isSignedIn(who)).toBe(true);
    expect((await tell(token)).status).toBe(200);
    expect(await isSignedIn(who)).toBe(false);
    expect((await tell(token)).status).toBe(400);
  });

  it.each(["", "?iss=https://evil.example&sid=x", "?sid=x", "?iss={issuer}&sid="])(
    "is refused in a frame with %j",
    async (query) => {
      const address = `${app.origin}/sign-in/front-channel/quayside${query.replace("{issuer}", practice.issuer)}`;
      const answer = await fetch(address);
      expect([answer.status, await answer.text()]).toEqual([
        400,
        expect.stringContaining("front-channel-refused"),
      ]);
    },
  );
});

describe("other ways back", () => {
  const open = async (settings: object) => {
    const target = await startApp(practice, {
      providers: {
        quayside: {
          issuer: practice.issuer,
          clientId: practice.client.clientId,
          clientSecret: practice.client.clientSecret!,
          scope: "openid profile",
          ...settings,
        },
      },
      apis: {},
    });
    return target;
  };
  /** Up to the provider's answer; `send` then brings it to the app as a browser would. */
  const begin = async (who: Visitor, target: App) => {
    await who.open(`${target.origin}/sign-in/to/quayside`);
    await who.press("Maren");
    const request = /name="request" value="([^"]+)"/.exec(who.page?.text ?? "")?.[1] ?? "";
    return who.fetch(`${practice.issuer}/authorize/decision`, {
      method: "POST",
      body: new URLSearchParams({ request, decision: "allow" }),
    });
  };
  const fieldsOf = (text: string) =>
    Object.fromEntries(
      [...text.matchAll(/name="([^"]+)" value="([^"]*)"/g)].map(([, name, value]) => [
        name ?? "",
        value ?? "",
      ]),
    );

  it.each(["form_post", "form_post.jwt"] as const)(
    "%s: what comes from another site without cookies is posted once more from here",
    async (responseMode) => {
      const target = await open({ responseMode });
      const callback = `${target.origin}/sign-in/from/quayside`;
      const who = createVisitor();
      const fields = fieldsOf(await (await begin(who, target)).text());
      // A browser sends no SameSite=Lax cookies with a post from another site.
      const bare = await fetch(callback, { method: "POST", body: new URLSearchParams(fields) });
      const page = await bare.text();
      expect(bare.headers.get("content-security-policy")).toMatch(/form-action 'self'; script-src 'sha256-/);
      expect(page).toContain("<button>Continue</button>");
      expect(fieldsOf(page)).toMatchObject(fields);
      const done = await who.post(callback, fieldsOf(page));
      expect(JSON.parse(done.text)).toMatchObject({ person: { name: "Maren Holt" } });
      // Posted again without cookies all the same: it is said, not tried for ever.
      const again = await fetch(callback, { method: "POST", body: new URLSearchParams(fieldsOf(page)) });
      expect(await again.text()).toContain("response.cookie-missing");
      const byQuery = await fetch(`${callback}?${new URLSearchParams(fields)}`);
      expect(await byQuery.text()).toContain("response.mode-mismatch");
      await target.stop();
    },
  );

  it("fragment: a page sends on what a browser tells no server, and takes it out of the address", async () => {
    const target = await open({ responseType: "code id_token" });
    const callback = `${target.origin}/sign-in/from/quayside`;
    const who = createVisitor();
    const location = new URL((await begin(who, target)).headers.get("location") ?? "");
    expect(location.search).toBe("");
    const page = await who.open(callback);
    expect(page.text).toContain("history.replaceState");
    const done = await who.post(callback, { fragment: location.hash.slice(1) });
    expect(JSON.parse(done.text)).toMatchObject({ person: { name: "Maren Holt" } });
    await target.stop();
  });

  it("query: a post is not an answer", async () => {
    const target = await open({});
    const answer = await fetch(`${target.origin}/sign-in/from/quayside`, {
      method: "POST",
      body: new URLSearchParams({ code: "x", state: "y" }),
    });
    expect(await answer.text()).toContain("response.mode-mismatch");
    await target.stop();
  });
});

describe("a page that needs more than a sign-in", () => {
  let target: App;
  beforeAll(async () => {
    target = await startApp(practice);
  });
  afterAll(() => target.stop());
  const asked = async (who: Visitor, wish: Wish) => {
    const headers = { accept: "text/html", host: new URL(target.origin).host };
    const location = target.signIn
      .ask(new Request(`${target.origin}/berths`, { headers }), wish)
      .headers.get("location");
    return who.open(location ?? "");
  };
  const sessionOf = async (who: Visitor) => {
    const value = who.cookies.get("localhost")?.get("tenonsaw-session") ?? "";
    const headers = { cookie: `tenonsaw-session=${value}` };
    const session = await target.signIn.session(new Request(target.origin, { headers }));
    return session ?? expect.fail("nobody is signed in");
  };
  const begin = async (who: Visitor) => {
    await who.open(`${target.origin}/sign-in/to/quayside`);
    await who.press("Maren");
    await who.press("Yes");
  };

  it("has the person prove who they are once more, in a session of its own", async () => {
    const who = createVisitor();
    await begin(who);
    const before = await sessionOf(who);
    expect(before.provedWithin(60)).toBe(true);
    target.aheadSeconds = 600;
    expect((await sessionOf(who)).provedWithin(60)).toBe(false);
    for (const none of [undefined, "300", Number.NaN, -1])
      expect(() => before.provedWithin(none as never)).toThrow("(server.unfit-argument)");
    const value = who.cookies.get("localhost")?.get("tenonsaw-session");
    // The provider's clock is not ahead, so what is asked for is a proof of this moment.
    await asked(who, { provider: "quayside", maxAge: 0 });
    target.aheadSeconds = 0;
    expect(who.page?.text).toContain("Pick a made-up member");
    await who.press("Maren");
    await who.press("Yes");
    expect(who.page?.url).toBe(`${target.origin}/berths`);
    expect((await sessionOf(who)).provedWithin(60)).toBe(true);
    expect(who.cookies.get("localhost")?.get("tenonsaw-session")).not.toBe(value);
  });

  it("takes no proof that is of the future, but for what clocks differ by", async () => {
    const who = createVisitor();
    await begin(who);
    const cookie = `tenonsaw-session=${who.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
    const now = Math.floor(Date.now() / 1000);
    const [{ session } = { session: { id: "" } }] = (await target.store.findSessions({})).slice(-1);
    const shown = target.signIn.protect(() => new Response("shown"), { maxAge: 3600 });
    for (const [ahead, isProved] of [
      [30, true],
      [600, false],
      [3000, false],
      [8e10, false],
    ] as const) {
      for (const each of await target.store.findSessions({}))
        await target.store.changeSession(each.session.id, { authenticatedAt: now + ahead } as never);
      expect([ahead, (await sessionOf(who)).provedWithin(3600)]).toEqual([ahead, isProved]);
      const answer = await shown(new Request(target.origin, { headers: { cookie, accept: "text/html" } }));
      expect([ahead, answer.status]).toEqual([ahead, isProved ? 200 : 303]);
    }
    expect(session.id).not.toBe("");
  });

  it("asks for a way of proving, and tells the app which it was", async () => {
    const who = createVisitor();
    await begin(who);
    expect((await sessionOf(who)).authenticationClass).toBeUndefined();
    // However it is written: who proved it in no way at all has not proved it in this one.
    const shown = async (acrValues: string) => {
      const cookie = `tenonsaw-session=${who.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
      const page = target.signIn.protect(() => new Response("berths"), { acrValues });
      return (await page(new Request(`${target.origin}/berths`, { headers: { cookie } }))).status;
    };
    for (const acrValues of ["urn:quayside:two-factor", " urn:quayside:two-factor ", "urn:a  urn:b"])
      expect([acrValues, await shown(acrValues)]).toEqual([acrValues, 401]);
    await asked(who, { provider: "quayside", acrValues: "urn:quayside:two-factor" });
    await who.press("Yes");
    expect((await sessionOf(who)).authenticationClass).toBe("urn:quayside:two-factor");
    for (const [acrValues, status] of [
      ["urn:quayside:two-factor", 200],
      ["urn:a urn:quayside:two-factor", 200],
      ["urn:a", 401],
    ] as const)
      expect([acrValues, await shown(acrValues)]).toEqual([acrValues, status]);
  });

  it("says after how long to try again, where the provider has said", async () => {
    const who = createVisitor();
    const page = await who.open(`${target.origin}/sign-in/to/quayside`);
    const request = /name="request" value="([^"]+)"/.exec(page.text)?.[1] ?? "";
    const chosen = { request, person: "maren", rehearsal: "token-endpoint-busy" };
    await who.post(`${practice.issuer}/authorize/person`, chosen);
    const { headers } = await who.press("Yes");
    expect(headers.get("retry-after")).toBe("30");
  });

  it("asks for more scope where it is needed, and keeps what was granted before", async () => {
    const narrow = await startApp(practice, {
      providers: {
        quayside: {
          issuer: practice.issuer,
          clientId: practice.client.clientId,
          clientSecret: practice.client.clientSecret!,
          scope: "openid profile",
        },
      },
    });
    const who = createVisitor();
    await who.open(`${narrow.origin}/sign-in/to/quayside?scope=email`);
    await who.press("Maren");
    await who.press("Yes");
    const page = await who.open(`${narrow.origin}/sign-in/to/quayside?scope=tides.read&returnTo=/tides`);
    for (const scope of ["profile", "email", "tides.read"])
      expect(page.text).toContain(`<code>${scope}</code>`);
    await who.press("Yes");
    expect(who.page?.text).toContain("Ferrywell landing");
    for (const query of ["scope=a%0Ab", "maxAge=-1", "maxAge=soon"]) {
      const refused = await who.open(`${narrow.origin}/sign-in/to/quayside?${query}`);
      expect(refused.text).toContain("attempt.parameters-refused");
    }
    await narrow.stop();
  });

  it("answers what is no page with where to go", async () => {
    const wish = { provider: "quayside", maxAge: 300 };
    const answer = target.signIn.ask(new Request(`${target.origin}/berths`), wish);
    expect(await answer.json()).toEqual({
      signIn: `${target.origin}/sign-in/to/quayside?returnTo=%2Fberths&maxAge=300`,
    });
  });
});
