import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import { createPlatform } from "../platform/index.js";
import type { ProblemError } from "../problem/index.js";
import { createBoundEngine } from "./bound-engine.js";
import { createMemoryBox, type Box } from "./box.js";
import { createSealedBox } from "./sealing.js";
import {
  createTokenHolder,
  type Change,
  type HolderParts,
  type PageClientSettings,
  type TokenHolder,
  type Trip,
} from "./token-holder.js";

const { clientSecret: _none, ...publicClient } = defaultClient;

let practice: Practice;
let server: Server;
let origin: string;
let asked: string[] = [];
let aheadSeconds = 0;
/** What goes wrong on the network, by the path asked for. */
let faults: Record<string, (send: () => Promise<Response>) => Promise<Response>> = {};

beforeAll(async () => {
  server = createServer((_, answer) => answer.end("the page"));
  await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
  origin = `http://localhost:${(server.address() as AddressInfo).port}`;
  practice = await startPractice({
    clients: [{ ...publicClient, redirectUris: [`${origin}/`] }],
    log: (line) => asked.push(line),
    lifetimes: { accessTokenSeconds: 300 },
    now: () => Date.now() / 1000 + aheadSeconds,
  });
});
afterAll(async () => {
  server.closeAllConnections();
  server.close();
  await practice.stop();
});
beforeEach(() => {
  faults = {};
  asked = [];
  practice.rehearse();
});

const printed: string[] = [];
/** What one browser keeps, for all of its tabs. */
function openBrowser(isKept = true) {
  const box: Box = { ...createMemoryBox(), isKept };
  let last: Promise<unknown> = Promise.resolve();
  printed.length = 0;
  const lock = <Result>(work: () => Promise<Result>): Promise<Result> => {
    const next = last.then(work);
    last = next.catch(() => undefined);
    return next;
  };
  const { subtle } = crypto;
  const changes: Change[] = [];
  const open = (changed: Partial<PageClientSettings["provider"]> = {}, apis = {}): TokenHolder =>
    createTokenHolder(
      {
        provider: {
          issuer: practice.issuer,
          clientId: "ferrywell",
          scope: "openid profile offline_access tides.read",
          ...changed,
        },
        apis: { tidebook: { origin: practice.tidebook }, ...apis },
      },
      {
        platform: createPlatform({
          print: (line) => void printed.push(line),
          crypto: createBoundEngine(subtle, box, (work) => work()),
          now: () => Date.now() / 1000 + aheadSeconds,
          fetch: (url, init) => {
            const fault = faults[new URL(url).pathname];
            return fault ? fault(() => fetch(url, init)) : fetch(url, init);
          },
        }),
        kept: createSealedBox(subtle, box, (work) => work()),
        origin,
        lock,
        onChange: (change) => void changes.push(change),
      },
    );
  return { box, open, changes };
}

async function answerOf(holder: TokenHolder, visitor: Visitor = createVisitor(), scope?: string) {
  const request = scope === undefined ? {} : { scope };
  await visitor.open(await holder.begin({ in: "this window", returnTo: "/river", request }));
  if (visitor.page?.text.includes("Maren Holt") === true) await visitor.press("Maren Holt");
  await visitor.press("Yes, allow");
  return visitor.page?.url ?? "";
}
const signIn = async (holder: TokenHolder, visitor?: Visitor): Promise<Trip> =>
  holder.finish(await answerOf(holder, visitor));
const tides = (holder: TokenHolder) => holder.fetch("tidebook", "/tides/today", {});
const problemOf = (work: Promise<unknown>) =>
  work.then(
    () => undefined,
    (error: unknown) => (error as { problem?: { code: string; ask?: object } }).problem,
  );

/** Lets a request through, and its answer only when it is told to. */
function holdUp(path: string) {
  const steps = new EventTarget();
  const step = (name: string) =>
    new Promise((resolve) => steps.addEventListener(name, resolve, { once: true }));
  const [isAsked, isReleased] = [step("asked"), step("released")];
  const held: { isAsked: Promise<unknown>; release: () => void; answer?: Response } = {
    isAsked,
    release: () => steps.dispatchEvent(new Event("released")),
  };
  faults[path] = async (send) => {
    const answer = await send();
    steps.dispatchEvent(new Event("asked"));
    await isReleased;
    return held.answer ?? answer;
  };
  return held;
}

/** A renewal that has been answered, and does not know it yet. */
async function beginRenewal(holder: TokenHolder) {
  aheadSeconds += 295;
  const token = holdUp("/token");
  const call = problemOf(tides(holder));
  await token.isAsked;
  return { token, call };
}

describe("what keeps the tokens of a page", () => {
  it("renews once for fifty tabs with twenty calls each", async () => {
    const { open } = openBrowser();
    const tabs = Array.from({ length: 50 }, () => open());
    expect(await signIn(tabs[0]!)).toEqual({ kind: "granted", returnTo: "/river", isSilent: false });
    expect((await tides(tabs[1]!)).status).toBe(200);
    aheadSeconds += 295;
    asked = [];
    faults["/tides/today"] = () => Promise.resolve(new Response());
    const answers = await Promise.all(tabs.flatMap((tab) => Array.from({ length: 20 }, () => tides(tab))));
    expect(answers.filter(({ status }) => status === 200)).toHaveLength(1000);
    expect(asked.filter((line) => line.includes("/token"))).toHaveLength(1);
  });

  it("binds tokens to a key that cannot be read, keeps them sealed, and takes none that anybody could use", async () => {
    const bound = openBrowser();
    await signIn(bound.open());
    const held = (await bound.box.get("held")) as { data: ArrayBuffer };
    expect(new TextDecoder("latin1").decode(held.data)).not.toMatch(/eyJ[\w-]+\.|accessToken/);
    const { handle } = (await bound.box.get("key")) as { handle: CryptoKey };
    await expect(crypto.subtle.exportKey("jwk", handle)).rejects.toThrow();
    expect((await bound.open().now()).now).toMatchObject({
      kind: "somebody",
      person: { name: "Maren Holt" },
    });
    const free = openBrowser();
    const holder = free.open({ dpopBoundAccessTokens: false });
    await signIn(holder);
    expect((await tides(holder)).status).toBe(200);
    expect(await free.box.get("held")).toBeUndefined();
    expect(await free.open().now()).toEqual({ now: { kind: "nobody" }, wasSomebody: true });
    const silent = await free.open().begin({ in: "frame.1", returnTo: "/", request: { prompt: "none" } });
    expect(new URL(silent).searchParams.get("scope")).toBe("openid profile offline_access tides.read");
  });

  it("does not take a provider that is away for one that says no; one that says no ends it", async () => {
    const { open, changes } = openBrowser();
    const holder = open();
    await signIn(holder);
    aheadSeconds += 295;
    const isAway = () => Promise.reject(new TypeError("Failed to fetch"));
    faults = { "/token": isAway, "/": isAway };
    const away = { code: "platform.unreachable", because: "page" };
    expect(await problemOf(tides(holder))).toMatchObject(away);
    // Somebody answers there, but nothing that a page may read.
    faults = { "/token": isAway };
    expect(await problemOf(tides(holder))).toMatchObject({ code: "page.cors-refused" });
    expect((await holder.now()).now.kind).toBe("somebody");
    // The provider has rotated, and its answer is lost: what is left is what it takes no more.
    let lost = 0;
    faults["/token"] = async (send) => {
      const answer = await send();
      lost += 1;
      return lost > 1 ? answer : isAway();
    };
    const cut = { code: "platform.unreachable", because: "cut-off" };
    expect(await problemOf(tides(holder))).toMatchObject(cut);
    faults = {};
    changes.length = 0;
    const problem = await problemOf(tides(holder));
    expect(problem).toMatchObject({ code: "connection.ended", ask: { provider: practice.issuer } });
    expect(changes).toEqual([{ isChanged: true }]);
    expect(await open().now()).toEqual({ now: { kind: "nobody" }, wasSomebody: true });
  });

  it("does not take a provider that is busy, or says of itself what cannot be, for one that says no", async () => {
    const { open, changes } = openBrowser();
    await signIn(open());
    aheadSeconds += 295;
    changes.length = 0;
    const busy = () =>
      Promise.resolve(new Response("later", { status: 503, headers: { "retry-after": "7" } }));
    const metadata = "/.well-known/openid-configuration";
    const nowhere = () => Promise.resolve(new Response("<h1>Not found</h1>", { status: 404 }));
    const garbled = () => Promise.resolve(Response.json({ access_token: 7 }));
    for (const [path, fault, code, retryAfterSeconds] of [
      ["/token", busy, "grant.unavailable", 7],
      ["/token", garbled, "grant.answer-refused", undefined],
      [metadata, busy, "provider.unavailable", 7],
      [metadata, nowhere, "provider.metadata-not-found", undefined],
    ] as const) {
      // What a browser remembers of the provider is over as well.
      aheadSeconds += path === metadata ? 90_000 : 0;
      faults = { [path]: fault };
      const tab = open();
      expect(await problemOf(tides(tab))).toMatchObject({
        code,
        ...(retryAfterSeconds && { retryAfterSeconds }),
      });
      expect((await tab.now()).now.kind).toBe("somebody");
    }
    expect(changes).toEqual([]);
    faults = {};
    expect((await tides(open())).status).toBe(200);
    // The tokens have come, and the keys by which their ID token is read have not.
    await practice.rotateKeys();
    aheadSeconds += 295;
    faults["/keys"] = busy;
    expect((await tides(open())).status).toBe(200);
    expect(changes).toEqual([]);
    aheadSeconds += 295;
    faults = {};
    expect((await tides(open())).status).toBe(200);
  });

  it.each([
    ["kept", {}],
    ["only remembered", { dpopBoundAccessTokens: false }],
  ])(
    "lets nobody in again who signs out while a token is renewed: tokens that are %s",
    async (_, changed) => {
      const { open, box } = openBrowser();
      const holder = open(changed);
      await signIn(holder);
      const { token, call } = await beginRenewal(holder);
      await holder.signOut();
      asked = [];
      token.release();
      expect(await call).toMatchObject({ code: "connection.none" });
      expect((await holder.now()).now).toEqual({ kind: "nobody" });
      expect(await box.all("held")).toEqual([]);
      await expect.poll(() => asked).toContain("quayside: POST /revoke → 200");
    },
  );

  it("puts nobody's renewed token in the place of whoever has signed in meanwhile", async () => {
    const { open } = openBrowser();
    const [first, second] = [open(), open()];
    await signIn(first);
    const { token, call } = await beginRenewal(first);
    faults = {};
    await second.signOut();
    const visitor = createVisitor();
    await visitor.open(await second.begin({ in: "this window", returnTo: "/", request: {} }));
    await visitor.press("Ib");
    await visitor.press("Yes, allow");
    expect((await second.finish(visitor.page?.url ?? "")).kind).toBe("granted");
    const { now } = await second.now();
    token.release();
    expect(await call).toMatchObject({ code: "connection.none" });
    for (const each of [first, second, open()]) expect((await each.now()).now).toEqual(now);
  });

  it("ends nobody's session by what the provider says of the one before", async () => {
    const { open } = openBrowser();
    const [first, second] = [open(), open()];
    await signIn(first);
    const { token, call } = await beginRenewal(first);
    faults = {};
    expect((await signIn(second)).kind).toBe("granted");
    token.answer = Response.json({ error: "invalid_grant" }, { status: 400 });
    token.release();
    expect(await call).toMatchObject({ code: "connection.ended" });
    expect((await open().now()).now.kind).toBe("somebody");
  });

  it("makes no call for whoever signed in after its page was drawn, and becomes nobody else where nobody was asked", async () => {
    const { open, box } = openBrowser();
    const holder = open();
    const visitor = createVisitor();
    await signIn(holder, visitor);
    const { now } = await holder.now();
    const maren = now.kind === "somebody" ? (now.person.id ?? "") : "";
    expect((await holder.fetch("tidebook", "/tides/today", {}, maren)).status).toBe(200);
    expect(await problemOf(holder.fetch("tidebook", "/tides/today", {}, "somebody-else"))).toMatchObject({
      code: "session.person-changed",
      status: 409,
    });
    // The provider is told whom the question is about.
    const silent = { in: "frame.x", returnTo: "/", request: { prompt: "none" } };
    expect(new URL(await holder.begin(silent)).searchParams.get("id_token_hint")).toMatch(/^ey/);
    // By now somebody else is signed in there.
    const other = createVisitor();
    const zoë = openBrowser().open();
    await other.open(await zoë.begin({ in: "this window", returnTo: "/", request: {} }));
    await other.press("Zoë");
    await zoë.finish((await other.press("Yes, allow")).url);
    await box.remove("held");
    const url = await holder.begin(silent);
    const answer = (await other.open(url)).url;
    expect(await holder.finish(answer)).toMatchObject({
      kind: "failed",
      isSilent: true,
      problem: { code: "session.person-changed" },
    });
    expect((await holder.now()).now.kind).toBe("nobody");
  });

  it("renews no token for each call of an API that takes none at all", async () => {
    const { open } = openBrowser();
    const holder = open();
    await signIn(holder);
    asked = [];
    faults["/tides/today"] = () => Promise.resolve(new Response(null, { status: 401 }));
    for (let count = 0; count < 5; count += 1) expect((await tides(holder)).status).toBe(401);
    expect(asked.filter((line) => line.includes("/token"))).toHaveLength(1);
    // Another API is another matter; and this one, once it takes one again.
    faults = {};
    expect((await tides(holder)).status).toBe(200);
    let refusals = 1;
    faults["/tides/today"] = (send) =>
      refusals-- > 0 ? Promise.resolve(new Response(null, { status: 401 })) : send();
    expect((await tides(holder)).status).toBe(200);
  });

  it("renews a token once that an API takes no more, and tells what more scope an API wants", async () => {
    const { open } = openBrowser();
    const holder = open();
    await signIn(holder);
    let refusals = 1;
    faults["/tides/today"] = (send) =>
      refusals-- > 0 ? Promise.resolve(new Response(null, { status: 401 })) : send();
    asked = [];
    expect((await tides(holder)).status).toBe(200);
    expect(asked.filter((line) => line.includes("/token"))).toHaveLength(1);
    const challenge = 'DPoP error="insufficient_scope", scope="slots.write"';
    faults["/tides/today"] = () =>
      Promise.resolve(new Response(null, { status: 403, headers: { "www-authenticate": challenge } }));
    expect(await problemOf(tides(holder))).toMatchObject({
      code: "connection.scope-insufficient",
      ask: { provider: practice.issuer, scope: "slots.write" },
    });
    // What was granted before is asked for with it.
    const url = await holder.begin({ in: "pop-up.1", returnTo: "/", request: { scope: "slots.write" } });
    expect(new URL(url).searchParams.get("scope")).toBe(
      "openid profile offline_access tides.read slots.write",
    );
  });

  it("takes each answer once, in time, and none that this browser did not begin", async () => {
    const { open, box } = openBrowser();
    const holder = open();
    const answer = await answerOf(holder);
    expect(await open().whereOf(answer)).toBe("this window");
    const twice = await Promise.allSettled([holder.finish(answer), open().finish(answer)]);
    expect(twice.filter(({ status }) => status === "fulfilled")).toHaveLength(1);
    expect(await problemOf(openBrowser().open().finish(answer))).toMatchObject({
      code: "response.state-altered",
      because: "cleared",
    });
    const late = await answerOf(holder);
    aheadSeconds += 601;
    expect(await problemOf(holder.finish(late))).toMatchObject({ code: "response.attempt-too-old" });
    // What is over is cleared away by the next.
    await holder.begin({ in: "this window", returnTo: "/", request: {} });
    expect(await box.all("attempt ")).toHaveLength(1);
  });

  it("takes back what was granted where the sign-in fails after that", async () => {
    const holder = openBrowser().open();
    practice.rehearse("nonce-wrong");
    const answer = await answerOf(holder);
    asked = [];
    expect((await holder.finish(answer)).kind).toBe("failed");
    practice.rehearse();
    await vi.waitFor(() => expect(asked.filter((line) => line.includes("/revoke"))).toHaveLength(1));
    // Not where somebody has tokens here already.
    await signIn(holder);
    practice.rehearse("nonce-wrong");
    const again = await answerOf(holder);
    asked = [];
    expect((await holder.finish(again)).kind).toBe("failed");
    practice.rehearse();
    expect((await tides(holder)).status).toBe(200);
    expect(asked.filter((line) => line.includes("/revoke"))).toEqual([]);
  });

  it("remembers what a provider publishes for a day, but nothing that did not work, and asks again for keys that are missing", async () => {
    const { open } = openBrowser();
    practice.rehearse("metadata-issuer-wrong");
    expect(await problemOf(open().begin({ in: "this window", returnTo: "/", request: {} }))).toMatchObject({
      code: "provider.issuer-mismatch",
    });
    practice.rehearse();
    await signIn(open());
    const published = () => asked.filter((line) => /openid-configuration|keys/.test(line));
    asked = [];
    await signIn(open());
    expect(published()).toEqual([]);
    await practice.rotateKeys();
    expect((await signIn(open())).kind).toBe("granted");
    expect(published()).toHaveLength(1);
    aheadSeconds += 90_000;
    asked = [];
    await signIn(open());
    expect(published()).toHaveLength(2);
  });

  it("keeps nothing where a browser keeps nothing, and says so before the way to the provider", async () => {
    const holder = openBrowser(false).open();
    const wish = { returnTo: "/", request: {} };
    expect(await problemOf(holder.begin({ ...wish, in: "this window" }))).toMatchObject({
      code: "page.storage-unavailable",
    });
    expect(await holder.begin({ ...wish, in: "pop-up.1" })).toContain(practice.issuer);
  });

  it("leaves nothing when somebody signs out, whatever the provider answers", async () => {
    const { open, box } = openBrowser();
    const holder = open();
    await signIn(holder);
    await holder.signOut();
    expect(asked).toContain("quayside: POST /revoke → 200");
    await signIn(holder);
    faults["/revoke"] = () => Promise.reject(new TypeError("Failed to fetch"));
    const next = new URL((await holder.signOut()) ?? "");
    expect(next.searchParams.get("post_logout_redirect_uri")).toBe(`${origin}/`);
    expect(next.searchParams.get("id_token_hint")).toMatch(/^eyJ/);
    expect(await box.all("")).toEqual([]);
    expect(await problemOf(tides(holder))).toMatchObject({ code: "connection.none" });
    expect(await holder.signOut()).toBeUndefined();
    const other = open();
    await signIn(other);
    faults["/.well-known/openid-configuration"] = () => Promise.reject(new TypeError("Failed to fetch"));
    expect(await open().signOut()).toBeUndefined();
    expect(await box.all("")).toEqual([]);
    // Here it is over; that the provider has not heard of it is told.
    const told = printed.filter((line) => line.includes("tokens were not taken back"));
    expect(told).toHaveLength(2);
  });

  it("sends tokens to declared origins only", async () => {
    const holder = openBrowser().open();
    await signIn(holder);
    for (const path of ["//evil.example/", "https://evil.example/tides/today", "\\\\evil.example\\x"])
      expect(await problemOf(holder.fetch("tidebook", path, {}))).toMatchObject({
        code: "connection.other-origin",
      });
    expect(await problemOf(holder.fetch("__proto__", "/", {}))).toMatchObject({
      code: "connection.api-unknown",
    });
    faults["/tides/today"] = () =>
      Promise.resolve(new Response(null, { status: 307, headers: { location: "https://evil.example/" } }));
    expect((await tides(holder)).status).toBe(307);
  });

  it("tells all that is wrong with the settings at once, whatever they are", () => {
    const parts = { origin: "https://board.example" } as HolderParts;
    const wrongWith = (settings: unknown) => {
      try {
        createTokenHolder(settings as PageClientSettings, parts);
        return undefined;
      } catch (error) {
        const { code, findings } = (error as ProblemError).problem;
        expect(code).toBe("page.settings-refused");
        return findings?.map(({ path }) => path).join(" ");
      }
    };
    const provider = { issuer: "https://id.quayside.example", clientId: "page" };
    for (const none of [undefined, null, "settings", [provider], {}])
      expect(wrongWith(none)).toMatch(/^(0 )?provider$/);
    expect(wrongWith({ providers: { quayside: provider } })).toBe("providers provider");
    expect(wrongWith({ provider: [provider] })).toBe("provider.issuer provider.clientId");
    for (const responseMode of ["form_post", "query.jwt", null])
      expect(wrongWith({ provider: { ...provider, responseMode } })).toBe("provider.responseMode");
    expect(wrongWith({ provider, apis: "https://tides.example" })).toBe("apis");
    const apis = {
      a: "https://tides.example",
      b: { origin: "https://tides.example/v1" },
      c: { origin: ["https://tides.example"] },
      d: null,
    };
    expect(wrongWith({ provider, apis })).toBe("apis.a apis.b apis.c apis.d");
    for (const redirectUri of ["/", "https://elsewhere.example/", "https://board.example/#/in", "", 1])
      expect(wrongWith({ provider, redirectUri, signedOutUri: "/" })).toBe("signedOutUri redirectUri");
  });

  it.each([
    [{ clientSecret: "s3cr3t" }, {}, "page.secret-refused"],
    [{ clientKeys: { env: "KEYS" } }, {}, "page.secret-refused"],
    [{ clientAuthentication: "client_secret_basic" as const }, {}, "page.secret-refused"],
    [{}, { slipway: { origin: "http://localhost:1", clientScope: "x" } }, "page.client-credentials-refused"],
  ])("refuses %j and %j in a page's settings", (provider, apis, code) => {
    expect(() => openBrowser().open(provider, apis)).toThrow(
      expect.objectContaining({ problem: expect.objectContaining({ code }) as object }) as Error,
    );
  });
});
