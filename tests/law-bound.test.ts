/** The law: an answer, a call, a question and a consent belong to the person and the account that they were made for. */
import { readFileSync } from "node:fs";
import { globSync } from "tinyglobby";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { openGuard } from "tenonsaw/guard";
import { guardForNode } from "tenonsaw/node";
import { createSignIn, passOn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { sealingKey } from "../scripts/sealing-key.mjs";
import { companies, ledgerhouseAt } from "./support/ledgerhouse.js";
import { startApp, type App } from "./support/start-app.js";

let practice: Practice;
let app: App;
let visitor: Visitor;
let store: ReturnType<typeof createMemoryStore>;
beforeAll(async () => {
  practice = await startPractice({});
});
afterAll(() => practice.stop());
beforeEach(async () => {
  store = createMemoryStore();
  visitor = createVisitor();
  const client = { clientId: "ferrywell", clientSecret: "only-for-practice" };
  app = await startApp(
    practice,
    {
      providers: {
        quayside: { issuer: practice.issuer, ...client, scope: "openid profile tides.read" },
        ledgerhouse: { ...ledgerhouseAt(practice.ledger), ...client },
      },
      apis: {
        tidebook: { provider: "quayside", origin: practice.tidebook, relay: ["/**"] },
        ledger: { provider: "ledgerhouse", origin: practice.ledger, relay: ["/**"] },
      },
      connections: { ledgerhouse: companies },
    },
    store,
  );
  practice.register({
    ...defaultClient,
    redirectUris: ["quayside", "ledgerhouse"].map((name) => `${app.origin}/sign-in/from/${name}`),
    postLogoutRedirectUris: [`${app.origin}/sign-in/out/done`],
  });
});
afterEach(() => app.stop());

async function signInAs(who: string, query = ""): Promise<void> {
  await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/${query}`);
  if (visitor.page?.text.includes("Pick a made-up member")) await visitor.press(who);
  if (visitor.page?.text.includes("Yes, allow")) await visitor.press("Yes, allow");
}

async function connect(company: string, query = ""): Promise<string> {
  await visitor.open(`${app.origin}/sign-in/connect/ledgerhouse?returnTo=/${query}`);
  await visitor.press("Connect Ledgerhouse");
  if (visitor.page?.text.includes("Maren Holt")) await visitor.press("Maren Holt");
  return (await visitor.press(company)).text;
}

const here = { "sec-fetch-site": "same-origin", "sec-fetch-dest": "empty", accept: "application/json" };
type Headers = Readonly<Record<string, string>>;
type Init = Omit<RequestInit, "headers"> & { readonly headers?: Headers };
const send = (path: string, init: Init = {}) =>
  visitor.fetch(app.origin + path, { ...init, headers: { origin: app.origin, ...here, ...init.headers } });
const personTag = async () =>
  ((await (await send("/sign-in/session")).json()) as { readonly personTag: string }).personTag;

describe("a call of a page", () => {
  const form = (fields: object) => ({
    method: "POST",
    body: new URLSearchParams({ returnTo: "/", ...fields }),
  });
  const calls: readonly (readonly [string, string, Init])[] = [
    ["to an API", "/sign-in/relay/tidebook/tides/today", {}],
    [
      "to an account's API",
      "/sign-in/relay/ledger/api/invoices",
      { headers: { "tenonsaw-account": "fw-club" } },
    ],
    ["for the list of accounts", "/sign-in/accounts", {}],
    ["to connect an account", "/sign-in/connect/ledgerhouse", form({})],
    ["to disconnect one", "/sign-in/disconnect", form({ connection: "x".repeat(22) })],
    ["to sign out everywhere", "/sign-in/out", form({ everywhere: "yes" })],
  ];

  it.each(calls)("%s is made for whom the page was drawn for, and for nobody else", async (_, path, init) => {
    await signInAs("Maren");
    const marens = await personTag();
    await signInAs("Maren");
    expect(await personTag()).toBe(marens);
    visitor = createVisitor();
    await signInAs("Zoë");
    expect(await personTag()).not.toBe(marens);
    const before = JSON.stringify(await store.findSessions({}));
    const answer = await send(path, { ...init, headers: { ...init.headers, "tenonsaw-person": marens } });
    expect(answer.status).toBe(409);
    expect(await answer.text()).toContain("session.person-changed");
    expect(JSON.stringify(await store.findSessions({}))).toBe(before);
    const own = await send(path, {
      ...init,
      headers: { ...init.headers, "tenonsaw-person": await personTag() },
    });
    expect(await own.text()).not.toContain("session.person-changed");
  });
});

describe("an answer of an API", () => {
  const chosenBy = [
    "cookie",
    "tenonsaw-launch",
    "tenonsaw-person",
    "tenonsaw-account",
    "sec-fetch-dest",
    "sec-fetch-mode",
  ];

  it("is kept by a browser for what has chosen it, and is asked for before it is given again", async () => {
    await signInAs("Maren");
    const { headers } = await send("/sign-in/relay/tidebook/tides/today");
    expect(headers.get("vary")?.split(", ")).toEqual(expect.arrayContaining(chosenBy));
    expect(headers.get("cache-control")).toMatch(/no-cache|no-store/);
  });

  it.each<[string | undefined, string]>([
    [undefined, "no-store"],
    ["max-age=60", "max-age=60, private"],
    ['no-cache, private="set-cookie"', 'no-cache, private="set-cookie", private'],
    ["private, max-age=60", "private, max-age=60"],
    ["public, max-age=60", "public, max-age=60"],
  ])("that an app passes on itself is one person's as well: %s", (said, passed) => {
    const { headers } = passOn(
      new Response("tides", { headers: said === undefined ? {} : { "cache-control": said } }),
    );
    expect(headers.get("cache-control")).toBe(passed);
    expect(headers.get("vary")?.split(", ")).toEqual(chosenBy);
  });
});

describe("a question about an account", () => {
  it("is about that one: whoever agrees for another has agreed to nothing, and keeps both as they were", async () => {
    await signInAs("Maren");
    await connect("Ferrywell Rowing Club");
    const known = await store.findAllKept({});
    const said = await connect("Ferrywell Boat Hire", "&account=fw-club&scope=books.write");
    expect(said).toContain("connection.other-account");
    expect(await store.findAllKept({})).toEqual(known);
    await connect("Ferrywell Rowing Club", "&account=fw-club&scope=books.write");
    const [kept, ...more] = await store.findAllKept({});
    expect([kept?.account, kept?.scope.split(" "), more]).toEqual([
      "fw-club",
      expect.arrayContaining(["books.read", "books.write"]),
      [],
    ]);
  });

  it("names it, from the refusal to the page that asks", async () => {
    await signInAs("Maren");
    await connect("Ferrywell Rowing Club");
    const [kept] = await store.findAllKept({});
    await store.replaceConnection({ ...kept!, status: "ended", version: kept!.version + 1 });
    const refused = await send("/sign-in/relay/ledger/api/invoices");
    expect(await refused.json()).toMatchObject({
      code: "connection.ended",
      ask: { provider: "ledgerhouse", account: "fw-club", by: "connecting" },
      ways: { connect: "/sign-in/connect/ledgerhouse?account=fw-club" },
    });
  });
});

describe("what a sign-in asked for and did not get", () => {
  const needs = { provider: "quayside", scope: "slots.write" } as const;
  /** Another process: nothing in common but the store. */
  const elsewhere = () =>
    createSignIn({
      origin: app.origin,
      keys: sealingKey,
      store,
      onProblem: () => undefined,
      providers: {
        quayside: {
          issuer: practice.issuer,
          clientId: "ferrywell",
          clientSecret: "only-for-practice",
          scope: "openid profile tides.read",
        },
      },
    });
  const visit = async (signIn: Pick<App["signIn"], "protect">) => {
    const cookie = [...(visitor.cookies.get("localhost") ?? [])].map((each) => each.join("=")).join("; ");
    const headers = { cookie, accept: "text/html" };
    return signIn.protect(
      () => new Response("slots"),
      needs,
    )(new Request(`${app.origin}/slots`, { headers }));
  };

  it("is a fact of that sign-in, in every process: asked once, told once, and asked again later", async () => {
    await signInAs("Maren");
    expect((await visit(app.signIn)).headers.get("location")).toContain("scope=slots.write");
    practice.rehearse("scope-narrowed");
    await signInAs("Maren", "&scope=slots.write");
    practice.rehearse();
    expect(await (await visit(await elsewhere())).text()).toContain("That did not work");
    expect(await (await visit(app.signIn)).text()).toContain("connection.scope-insufficient");
    app.aheadSeconds = 11;
    expect((await visit(app.signIn)).headers.get("location")).toContain("scope=slots.write");
  });

  it("is nothing where somebody began to be asked, gave up, and signed in again", async () => {
    await signInAs("Maren");
    for (const signIn of [app.signIn, await elsewhere(), app.signIn])
      expect((await visit(signIn)).headers.get("location")).toContain("scope=slots.write");
    await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/&scope=slots.write`);
    await signInAs("Maren");
    visitor = createVisitor();
    await signInAs("Maren");
    expect((await visit(app.signIn)).headers.get("location")).toContain("scope=slots.write");
  });
});

describe("what one process remembers", () => {
  it("is in the table that says what its loss changes, whichever file keeps it", () => {
    const table = readFileSync("docs/reliability.md", "utf8").split("## What one process remembers")[1] ?? "";
    const source = "packages/tenonsaw/src";
    const keeping = globSync("**/*.ts", { cwd: source, ignore: ["**/*.test.ts", "browser/**"] }).filter(
      (path) => readFileSync(`${source}/${path}`, "utf8").includes("new QuickLRU"),
    );
    expect(keeping.length).toBeGreaterThan(10);
    for (const path of keeping) expect(table, path).toContain(`\`${path}\``);
  });
});

describe("a proof of possession", () => {
  it("is used up once for a request, however many guards on one store look at it, and by no other request", async () => {
    const url = `${practice.tidebook}/tides`;
    const settings = {
      issuer: practice.issuer,
      audience: practice.tidebook,
      store,
      onProblem: () => undefined,
    };
    const guards = await Promise.all([openGuard(settings), openGuard(settings)]);
    const token = await practice.token({ bound: true });
    const headers = { authorization: `DPoP ${token}`, dpop: await practice.proof({ token, url }) };
    const request = new Request(url, { headers });
    for (const guard of guards) expect((await guard.admit(request, "any-caller")).boundTo).toBe("key");
    await expect(guards[0].admit(new Request(url, { headers }), "any-caller")).rejects.toMatchObject({
      problem: { code: "guard.proof-replayed" },
    });
    const incoming = { method: "GET", url: "/tides", headers, rawHeaders: [], socket: {} } as never;
    const fresh = { ...headers, dpop: await practice.proof({ token, url }) };
    Object.assign(incoming, { headers: fresh });
    for (const guard of guards)
      expect((await guardForNode(guard).admit(incoming, {} as never, "any-caller"))?.boundTo).toBe("key");
  });
});
