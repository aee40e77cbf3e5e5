import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import {
  createConnections,
  createSignIn,
  type ConnectionSettings,
  type Needs,
  type SignIn,
  type SignInSettings,
} from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { createPlatform } from "tenonsaw/platform";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { companies, ledgerhouseAt } from "../../../../../tests/support/ledgerhouse.js";
import { problemOf } from "../../../../../tests/support/fake-world.js";
import type { Problem } from "../../problem/index.js";
import type { ProblemReport, TraceEvent } from "../../trace/index.js";
import { hurried } from "../../../../../tests/support/start-app.js";

let practice: Practice;
let store = createMemoryStore();
let visitor: Visitor;
let aheadSeconds = 0;
/** What the practice providers were asked. */
const asked: string[] = [];
const stops: (() => Promise<unknown>)[] = [];

beforeAll(async () => {
  practice = await startPractice({ lifetimes: { accessTokenSeconds: 30 }, log: (line) => asked.push(line) });
});
beforeEach(() => {
  store = createMemoryStore();
  visitor = createVisitor();
  aheadSeconds = 0;
});
afterAll(async () => {
  for (const stop of stops) await stop();
  await practice.stop();
});

function settingsAt(origin: string, place = practice.ledger, connection = companies) {
  const client = { clientId: "ferrywell", clientSecret: "only-for-practice" };
  return {
    origin,
    keys: Buffer.alloc(32, 7).toString("base64url"),
    store,
    development: true,
    platform: createPlatform({ now: () => Date.now() / 1000 + aheadSeconds, print: () => undefined }),
    providers: {
      quayside: { title: "Quayside ID", issuer: practice.issuer, ...client, scope: "openid profile" },
      ledgerhouse: { ...ledgerhouseAt(place), ...client },
    },
    apis: {
      ledger: { provider: "ledgerhouse", origin: place },
    },
    connections: { ledgerhouse: connection },
  } as const satisfies SignInSettings<"quayside" | "ledgerhouse", "ledger">;
}

/** Listens first: an app has to know where it is. */
async function listening(): Promise<{
  readonly origin: string;
  readonly use: (listener: ReturnType<typeof nodeListener>) => void;
}> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
  const origin = `http://localhost:${(server.address() as AddressInfo).port}`;
  stops.push(() => {
    server.closeAllConnections();
    return new Promise((resolve) => server.close(resolve));
  });
  practice.register({
    ...defaultClient,
    redirectUris: ["quayside", "ledgerhouse"].map((name) => `${origin}/sign-in/from/${name}`),
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
  });
  return { origin, use: (listener) => void server.on("request", listener) };
}

async function startApp(changes: Partial<SignInSettings> = {}, connection = companies) {
  const { origin, use } = await listening();
  const signIn = await createSignIn({ ...settingsAt(origin, practice.ledger, connection), ...changes });
  use(
    nodeListener(
      signIn,
      signIn.protect(async (request, session) => {
        const { pathname, searchParams } = new URL(request.url);
        if (pathname !== "/books") return Response.json({ accounts: await session.accounts() });
        const account = searchParams.get("account") ?? undefined;
        const answer = await session.fetch("ledger", "/api/invoices", { account });
        return Response.json(await answer.json(), { status: answer.status });
      }),
    ),
  );
  return { origin, signIn };
}

async function signInAs(origin: string, who: string, as = visitor) {
  await as.open(`${origin}/accounts`);
  if (as.page?.text.includes("Sign in with Quayside ID")) await as.press("Sign in with Quayside ID");
  if (as.page?.text.includes("Pick a made-up member")) await as.press(who);
  if (as.page?.text.includes("Yes, allow")) await as.press("Yes, allow");
}

/** Goes from the page with the button to the provider, and comes back with a company. */
async function connect(origin: string, company: string, more = "") {
  await visitor.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/accounts${more}`);
  await visitor.press("Connect Ledgerhouse");
  await visitor.press("Maren Holt");
  return visitor.press(company);
}

/** Where the provider sends the browser back to, which has not gone there yet. */
async function callbackOf(origin: string): Promise<string> {
  await visitor.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/accounts`);
  await visitor.press("Connect Ledgerhouse");
  await visitor.press("Maren Holt");
  const request = /name="request" value="([^"]+)"/.exec(visitor.page?.text ?? "")?.[1] ?? "";
  const body = new URLSearchParams({ request, decision: "fw-club" });
  const answer = await visitor.fetch(`${practice.ledger}/authorize/decision`, { method: "POST", body });
  return answer.headers.get("location") ?? "";
}

/** What this visitor gets of a page that needs something. */
function guardedBy(signIn: SignIn, origin: string, needs: Needs): () => Promise<Response> {
  const page = signIn.protect(async () => new Response("books"), needs);
  return () => {
    const cookie = [...(visitor.cookies.get("localhost") ?? [])].map((each) => each.join("=")).join("; ");
    return page(new Request(`${origin}/books`, { headers: { cookie, accept: "text/html" } }));
  };
}

async function accountsAt(origin: string, as = visitor) {
  const answer = await as.fetch(`${origin}/sign-in/accounts`);
  return ((await answer.json()) as { accounts: readonly Readonly<Record<string, unknown>>[] }).accounts;
}

describe("a connected account", () => {
  it("is the person's: with its name, what it allows, beyond sign-out, in any browser", async () => {
    const { origin } = await startApp();
    await signInAs(origin, "Maren");
    expect(visitor.page?.text).toContain('"accounts":[]');
    const page = await connect(origin, "Ferrywell Rowing Club");
    expect(page.url).toBe(`${origin}/accounts`);
    expect(await accountsAt(origin)).toMatchObject([
      {
        provider: "ledgerhouse",
        title: "Ledgerhouse",
        account: "fw-club",
        name: "Ferrywell Rowing Club",
        isConfirmed: true,
        allows: ["read the books", "while you are away"],
        status: "in order",
      },
    ]);
    expect((await visitor.open(`${origin}/books`)).text).toContain("Maren Holt");
    await visitor.post(`${origin}/sign-in/out`, {});
    expect(await accountsAt(origin)).toEqual([]);
    const elsewhere = createVisitor();
    await signInAs(origin, "Maren", elsewhere);
    aheadSeconds = 3000;
    expect((await elsewhere.open(`${origin}/books`)).text).toContain("Maren Holt");
    const [account] = await accountsAt(origin, elsewhere);
    expect(account).toMatchObject({ account: "fw-club", lastUsedAt: expect.any(Number) as number });
    // Nobody else sees it, or can end it.
    aheadSeconds = 0;
    const other = createVisitor();
    await signInAs(origin, "Ib", other);
    expect(await accountsAt(origin, other)).toEqual([]);
    const refused = await other.post(`${origin}/sign-in/disconnect`, { connection: String(account?.["id"]) });
    expect(refused.text).toContain("(connection.none)");
    expect(await accountsAt(origin, elsewhere)).toHaveLength(1);
  });

  it("stands beside a second one, and is repaired by being connected again; calls name the one they are for", async () => {
    const { origin, signIn } = await startApp();
    await signInAs(origin, "Maren");
    expect((await visitor.open(`${origin}/books`)).text).toContain("(connection.none)");
    await connect(origin, "Ferrywell Rowing Club");
    await connect(origin, "Ferrywell Boat Hire");
    const [, before] = await accountsAt(origin);
    const unclear = await visitor.open(`${origin}/books`);
    expect(unclear.text).toContain("(connection.account-unclear)");
    expect(unclear.text).toContain("&quot;fw-boats&quot; (Ferrywell Boat Hire), &quot;fw-club&quot;");
    expect((await visitor.open(`${origin}/books?account=fw-boats`)).text).toContain('"amount":45');
    expect((await visitor.open(`${origin}/books?account=fw-none`)).text).toContain(
      "no account &quot;fw-none&quot; at ledgerhouse; connected are",
    );
    await connect(origin, "Ferrywell Rowing Club", "&account=fw-club&scope=books.write");
    const accounts = await accountsAt(origin);
    expect(accounts.map(({ account }) => account).sort()).toEqual(["fw-boats", "fw-club"]);
    const repaired = accounts.find(({ account }) => account === "fw-club");
    expect(repaired?.["id"]).not.toBe(before?.["id"]);
    expect(repaired?.["connectedAt"]).toBe(before?.["connectedAt"]);
    expect(repaired?.["scope"]).toEqual(["books.read", "offline", "books.write"]);
    const personId = (await store.findSessions({}))[0]?.person.id ?? "";
    // A job at night, writing.
    const init = { method: "POST", body: JSON.stringify({ to: "Ib", amount: 7 }), account: "fw-club" };
    expect((await signIn.fetchFor(personId, "ledger", "/api/invoices", init)).status).toBe(201);
    const less = { ...init, account: "fw-boats" };
    const problem = await problemOf(() => signIn.fetchFor(personId, "ledger", "/api/invoices", less));
    expect(problem).toMatchObject({
      code: "connection.scope-insufficient",
      ask: { provider: "ledgerhouse", scope: "books.write" },
    });
    // However many they have, and whichever was connected first: the store is asked for that one.
    const {
      id: _id,
      account: _account,
      ...kept
    } = (await store.findAllKept({ personId, account: "fw-boats" }))[0]!;
    for (let count = 0; count < 1100; count += 1)
      await store.keepConnection({
        ...kept,
        id: `more-${count}`,
        account: `fw-${count}`,
        connectedAt: kept.connectedAt + 9,
      });
    expect((await visitor.open(`${origin}/books?account=fw-boats`)).text).toContain('"amount":45');
    expect((await visitor.open(`${origin}/books`)).text).toContain("more than 20 connected accounts");
    for (let count = 0; count < 1100; count += 1) await store.dropKept(`more-${count}`);
    // A client of that API's own, with a `fetch` for one account.
    const session = await signIn.session(
      new Request(origin, {
        headers: {
          cookie: `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`,
        },
      }),
    );
    const fetchBooks = session!.fetchAt("ledger", { account: "fw-club" });
    const changed = new Request(`${practice.ledger}/api/invoices/1`, {
      method: "PATCH",
      body: '{"amount":8}',
    });
    expect(await (await fetchBooks(changed)).json()).toMatchObject({ number: 1, amount: 8 });
    expect((await fetchBooks(`${practice.ledger}/api/invoices/1`, { method: "DELETE" })).status).toBe(204);
    expect((await problemOf(() => fetchBooks("https://elsewhere.example/"))).code).toBe(
      "connection.other-origin",
    );
  });

  it("ends when the person ends it, or is removed; its tokens are taken back", async () => {
    const { origin, signIn } = await startApp();
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Rowing Club");
    await connect(origin, "Ferrywell Boat Hire");
    const accounts = await accountsAt(origin);
    const boats = accounts.find(({ account }) => account === "fw-boats");
    const personId = (await store.findSessions({}))[0]?.person.id ?? "";
    const token = await signIn.fetchFor(personId, "ledger", "/api/company", { account: "fw-boats" });
    expect(token.status).toBe(200);
    const forged = await visitor.post(
      `${origin}/sign-in/disconnect`,
      { connection: String(boats?.["id"]) },
      "https://elsewhere.example",
    );
    expect(forged.text).toContain("(session.other-origin)");
    const page = await visitor.post(`${origin}/sign-in/disconnect`, {
      connection: String(boats?.["id"]),
      returnTo: "/accounts",
    });
    expect(page.url).toBe(`${origin}/accounts`);
    // A second press, or another tab, finds it ended; what was never an ID is a mistake.
    const end = async (connection: string) =>
      visitor.post(`${origin}/sign-in/disconnect`, { connection, returnTo: "/accounts" });
    expect((await end(String(boats?.["id"]))).url).toBe(`${origin}/accounts`);
    expect((await end("fw-club")).text).toContain("(connection.none)");
    const cookies = [...(visitor.cookies.get("localhost") ?? [])].map((pair) => pair.join("="));
    const told = await fetch(`${origin}/sign-in/disconnect`, {
      method: "POST",
      headers: { accept: "application/json", cookie: cookies.join("; "), origin },
      body: new URLSearchParams({ connection: "fw-club" }),
    });
    const because = "not-theirs";
    expect(await told.json()).toMatchObject({ problem: { code: "connection.none", because, status: 403 } });
    expect((await accountsAt(origin)).map(({ account }) => account)).toEqual(["fw-club"]);
    const revocations = () => asked.filter((line) => line === "ledger: POST /oauth/revoke → 200").length;
    const before = revocations();
    expect(before).toBeGreaterThan(0);
    await signIn.forget(personId);
    expect(revocations()).toBeGreaterThan(before);
    expect(await store.findAllKept({})).toEqual([]);
    expect(await store.findSessions({})).toEqual([]);
  });

  it("needs consent once the provider honours it no more, which leaves the session and other accounts alone", async () => {
    const { origin, signIn } = await startApp();
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Boat Hire");
    await connect(origin, "Ferrywell Rowing Club");
    const [before] = await store.findAllKept({ account: "fw-club" });
    const { personId = "", version = 0 } = before ?? {};
    aheadSeconds = 60;
    const init = { account: "fw-club" };
    await signIn.fetchFor(personId, "ledger", "/api/company", init);
    // As if another app had used it meanwhile: what is here is spent.
    expect(await store.replaceConnection({ ...before!, version: version + 2 })).toBe(true);
    const problem = await problemOf(() => signIn.fetchFor(personId, "ledger", "/api/company", init));
    expect(problem.code).toBe("connection.ended");
    expect(await accountsAt(origin)).toMatchObject([
      { account: "fw-club", status: "needs consent" },
      { account: "fw-boats", status: "in order" },
    ]);
    expect((await visitor.open(`${origin}/books?account=fw-boats`)).text).toContain("invoices");
    aheadSeconds = 0;
    await connect(origin, "Ferrywell Rowing Club");
    expect((await visitor.open(`${origin}/books?account=fw-club`)).text).toContain("invoices");
  });

  it("says when it ends where it cannot be renewed", async () => {
    const { origin } = await startApp({}, { ...companies, scope: "books.read" });
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Rowing Club");
    const [account] = await accountsAt(origin);
    expect(account?.["endsAt"]).toBeGreaterThan(Date.now() / 1000 + 20);
  });

  it("is refreshed once for any number of calls, and while it is disconnected its new tokens are nobody's", async () => {
    const { origin, signIn } = await startApp();
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Rowing Club");
    const [before] = await store.findAllKept({});
    const { id = "", personId = "" } = before ?? {};
    aheadSeconds = 60;
    const call = () => signIn.fetchFor(personId, "ledger", "/api/company");
    const answers = await Promise.all(Array.from({ length: 20 }, call));
    expect(answers.every(({ ok }) => ok)).toBe(true);
    expect((await store.findKept(id))?.refreshCount).toBe(1);
    aheadSeconds = 120;
    const [refreshing, isGone] = await Promise.allSettled([call(), signIn.disconnect(personId, id)]);
    expect(isGone).toEqual({ status: "fulfilled", value: true });
    expect(refreshing.status).toMatch(/fulfilled|rejected/);
    expect(await store.findAllKept({})).toEqual([]);
    expect((await problemOf(call)).code).toBe("connection.none");
  });
});

describe("tokens that cannot be taken back because the provider is away", () => {
  it.each([
    ["no answer", () => Promise.reject(new TypeError("away"))],
    ["a busy one", () => Promise.resolve(new Response("later", { status: 503 }))],
  ])("are told of, and taken back when it is there again: %s", async (_, answer) => {
    let isAway = true;
    aheadSeconds = 0;
    const said: string[] = [];
    const platform = createPlatform({
      now: () => Date.now() / 1000 + aheadSeconds,
      monotonic: () => performance.now() / 1000 + aheadSeconds,
      print: (line) => said.push(line),
      fetch: (url, init) => (isAway && url.endsWith("/oauth/revoke") ? answer() : fetch(url, init)),
    });
    const { origin, signIn } = await startApp({ platform });
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Rowing Club");
    const [kept] = await store.findAllKept({});
    const revocations = () => asked.filter((line) => line.startsWith("ledger: POST /oauth/revoke")).length;
    const before = revocations();
    expect(await signIn.disconnect(kept!.personId, kept!.id)).toBe(true);
    expect(await store.findAllKept({})).toEqual([]);
    expect(said.join("\n")).toContain("taking tokens back at ledgerhouse");
    isAway = false;
    // Whoever comes next, a minute later at the earliest, has it done.
    await createVisitor().open(`${origin}/sign-in/to/quayside`);
    expect(revocations()).toBe(before);
    aheadSeconds = 61;
    await createVisitor().open(`${origin}/sign-in/to/quayside`);
    await expect.poll(revocations).toBe(before + 1);
    aheadSeconds = 122;
    await createVisitor().open(`${origin}/sign-in/to/quayside`);
    expect(revocations()).toBe(before + 1);
  });
});

describe("connecting an account", () => {
  it("begins with a button on a page of this app, never with a link from elsewhere", async () => {
    const { origin } = await startApp();
    const first = await visitor.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/accounts`);
    expect(first.text).toContain("Sign in with Quayside ID");
    expect(first.text).not.toContain("Sign in with Ledgerhouse");
    await signInAs(origin, "Maren");
    const fields = { returnTo: "/accounts" };
    const forged = await visitor.post(
      `${origin}/sign-in/connect/ledgerhouse`,
      fields,
      "https://elsewhere.example",
    );
    expect(forged.text).toContain("(session.other-origin)");
    expect((await visitor.open(`${origin}/sign-in/to/ledgerhouse`)).text).toContain(
      "(provider.not-for-sign-in)",
    );
    const quayside = await visitor.open(`${origin}/sign-in/connect/quayside`);
    expect(quayside.text).toContain("(connection.not-connectable)");
    const odd = await visitor.post(`${origin}/sign-in/connect/ledgerhouse`, { scope: 'a"b' });
    expect(odd.text).toContain("(attempt.parameters-refused)");
  });

  it("leaves everything as it was where the person says no", async () => {
    const { origin } = await startApp();
    await signInAs(origin, "Maren");
    await visitor.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/accounts`);
    await visitor.press("Connect Ledgerhouse");
    await visitor.press("Maren Holt");
    const page = await visitor.press("No, not now");
    expect(page.text).toContain("Nothing was connected");
    expect(await accountsAt(origin)).toEqual([]);
  });

  it("keeps nothing for anybody else: not after another sign-in, not in another browser, not signed out", async () => {
    const { origin } = await startApp();
    await signInAs(origin, "Maren");
    const stolen = await callbackOf(origin);
    const stranger = createVisitor();
    await signInAs(origin, "Ib", stranger);
    expect((await stranger.open(stolen)).text).toContain("(response.other-browser)");
    await visitor.post(`${origin}/sign-in/out`, {});
    expect((await visitor.open(stolen)).text).toContain("(connection.person-changed)");
    await signInAs(origin, "Maren");
    const late = await callbackOf(origin);
    await visitor.post(`${origin}/sign-in/out`, {});
    await visitor.open(`${origin}/accounts`);
    await signInAs(origin, "Ib");
    const other = await visitor.open(late);
    expect(other.text).toMatch(/\(connection\.person-changed\)/);
    expect(await store.findAllKept({})).toEqual([]);
  });

  it("takes the provider's word for the account, not the browser's", async () => {
    const { origin } = await startApp();
    await signInAs(origin, "Maren");
    const altered = async (company: string) => {
      const back = new URL(await callbackOf(origin));
      back.searchParams.set("company", company);
      return visitor.open(back.href);
    };
    const page = await altered("fw-boats");
    expect(page.text).toContain("(connection.account-mismatch)");
    expect(page.text).toContain(
      "company=&quot;fw-boats&quot; with the callback, &quot;fw-club&quot; from the provider",
    );
    expect(await store.findAllKept({})).toEqual([]);
    // Where nobody is asked, that is what is said.
    const unconfirmed = await startApp({}, { scope: "books.read", account: { parameter: "company" } });
    await signInAs(unconfirmed.origin, "Maren");
    await connect(unconfirmed.origin, "Ferrywell Rowing Club");
    expect(await accountsAt(unconfirmed.origin)).toMatchObject([{ account: "fw-club", isConfirmed: false }]);
  });

  it.each<[string, NonNullable<ConnectionSettings["account"]>, string | undefined, string]>([
    ["no ID there", { ...companies.account, id: "/number" }, undefined, "nothing at /number"],
    ["a path there is not", { confirmedBy: { api: "ledger", path: "/nowhere" } }, "not-there", "status 404"],
    ["a page", { confirmedBy: { api: "ledger", path: "/" } }, "not-json", "which is no JSON object"],
    ["no account in the callback", { parameter: "unit" }, "no-parameter", "nothing at the parameter unit"],
  ])("keeps nothing where the account cannot be told: %s", async (_, account, because, received) => {
    const told: Problem[] = [];
    const onProblem = ({ problem }: ProblemReport) => told.push(problem);
    const { providers } = settingsAt("");
    const keepCallbackParameters = ["company", "unit"];
    const deviations = { ...providers.ledgerhouse.deviations, keepCallbackParameters };
    const ledgerhouse = { ...providers.ledgerhouse, deviations };
    const app = await startApp(
      { providers: { ...providers, ledgerhouse }, onProblem },
      { ...companies, account },
    );
    await signInAs(app.origin, "Maren");
    await connect(app.origin, "Ferrywell Rowing Club");
    expect(told).toEqual([
      expect.objectContaining({
        code: "connection.account-unreadable",
        received: expect.stringContaining(received) as string,
        ...(because !== undefined && { because }),
      }),
    ]);
    expect(await store.findAllKept({})).toEqual([]);
  });

  it("is kept without a name where the settings look for one in the wrong place, which is told", async () => {
    const told: Problem[] = [];
    const { origin } = await startApp(
      { onProblem: ({ problem }) => told.push(problem) },
      { ...companies, account: { ...companies.account, name: "/label" } },
    );
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Rowing Club");
    expect(told).toMatchObject([
      { code: "connection.account-unreadable", because: "name", received: "nothing at /label" },
    ]);
    expect((await accountsAt(origin))[0]).not.toHaveProperty("name");
  });

  it("without a refresh token needs the person once its access token is over, as everything about it says", async () => {
    const { origin, signIn } = await startApp({}, { ...companies, scope: "books.read" });
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Rowing Club");
    const [before] = await accountsAt(origin);
    expect(before).toMatchObject({ status: "in order", endsAt: expect.any(Number) as number });
    aheadSeconds = 31;
    expect((await accountsAt(origin))[0]).toMatchObject({ status: "needs consent" });
    const [kept] = await store.findAllKept({});
    expect(await problemOf(() => signIn.fetchFor(kept!.personId, "ledger", "/api/company"))).toMatchObject({
      code: "connection.ended",
      because: "not-renewable",
      ask: { provider: "ledgerhouse" },
    });
    const open = guardedBy(signIn, origin, { provider: "ledgerhouse" });
    expect((await open()).headers.get("location")).toContain("/sign-in/connect/ledgerhouse");
    await connect(origin, "Ferrywell Rowing Club");
    expect(await (await open()).text()).toBe("books");
    // Nobody has been asked for more by then: who connects it again without that is asked, and not told that they were.
    const more = guardedBy(signIn, origin, { provider: "ledgerhouse", scope: "books.write" });
    expect((await more()).headers.get("location")).toContain("scope=books.write");
    await connect(origin, "Ferrywell Rowing Club");
    expect((await more()).headers.get("location")).toContain("scope=books.write");
  });

  it("is not had by two who connect it in one moment, where it is one person's alone", async () => {
    let looks = 0;
    let bothLooked: (() => void) | undefined;
    const together = new Promise<void>((resolve) => (bothLooked = resolve));
    // Each looks before either has written.
    const racing = {
      ...store,
      async findAllKept(query: Parameters<(typeof store)["findAllKept"]>[0]) {
        const found = await store.findAllKept(query);
        if (query.account !== undefined && query.personId === undefined && (looks += 1) <= 2) {
          if (looks === 2) bothLooked?.();
          await together;
        }
        return found;
      },
    };
    const { origin } = await startApp({ store: racing }, { ...companies, shared: false });
    const both = ["Maren", "Ib"].map((who) => [who, createVisitor()] as const);
    for (const [who, each] of both) {
      await signInAs(origin, who, each);
      await each.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/accounts`);
      await each.press("Connect Ledgerhouse");
      await each.press("Maren Holt");
    }
    const pages = await Promise.all(both.map(([, each]) => each.press("Ferrywell Rowing Club")));
    const kept = await store.findAllKept({});
    expect(pages.filter(({ text }) => text.includes("(connection.account-taken)"))).toHaveLength(
      2 - kept.length,
    );
    expect(kept.length).toBeLessThan(2);
    expect(looks).toBeGreaterThan(2);
  });

  it("is one person's alone where the settings say so, and anybody's otherwise", async () => {
    for (const shared of [true, false]) {
      store = createMemoryStore();
      const { origin } = await startApp({}, { ...companies, shared });
      visitor = createVisitor();
      await signInAs(origin, "Maren");
      await connect(origin, "Ferrywell Rowing Club");
      visitor = createVisitor();
      await signInAs(origin, "Ib");
      const page = await connect(origin, "Ferrywell Rowing Club");
      if (!shared) expect(page.text).toContain("(connection.account-taken)");
      expect(await store.findAllKept({ account: "fw-club" })).toHaveLength(shared ? 2 : 1);
    }
  });

  it("in a window of its own tells the page that opened it", async () => {
    const { origin } = await startApp();
    await signInAs(origin, "Maren");
    const page = await connect(origin, "Ferrywell Rowing Club", "&in=pop-up");
    expect(page.text).toContain("The account is connected");
    expect(page.text).toContain(
      "{&quot;kind&quot;:&quot;granted&quot;,&quot;returnTo&quot;:&quot;/accounts&quot;}",
    );
  });

  it("is asked of a page that needs it, and leads back there", async () => {
    const { origin, use } = await listening();
    const signIn = await createSignIn(settingsAt(origin));
    const needs = { provider: "ledgerhouse", scope: "books.write" } as const;
    const page = signIn.protect(async (_, session) => Response.json(await session.accounts()), needs);
    use(nodeListener(signIn, page));
    await signInAs(origin, "Maren");
    expect(visitor.page?.text).toContain("Connect Ledgerhouse");
    await visitor.press("Connect Ledgerhouse");
    await visitor.press("Maren Holt");
    expect(visitor.page?.text).toContain("books.write");
    const back = await visitor.press("Ferrywell Boat Hire");
    expect(back.url).toBe(`${origin}/accounts`);
    expect(back.text).toContain('"scope":["books.read","offline","books.write"]');
  });

  it("is not asked for again and again where the provider grants less: the page says which scope is missing", async () => {
    const { origin, use } = await listening();
    const signIn = await createSignIn(settingsAt(origin));
    const needs = { provider: "ledgerhouse", scope: "books.write" } as const;
    use(
      nodeListener(
        signIn,
        signIn.protect(() => new Response("Books"), needs),
      ),
    );
    await signInAs(origin, "Maren");
    const connectAs = async (who: string) => {
      await visitor.press("Connect Ledgerhouse");
      await visitor.press(who);
      return visitor.press("Ferrywell Rowing Club");
    };
    const page = await connectAs("Zoë");
    expect(page.text).toContain("(connection.scope-insufficient)");
    expect(page.text).toContain("a token without books.write, though the person was asked for it");
    expect(page.text).toContain("where an administrator has to agree");
    // A later visit asks again, in every process and without its memory; whoever may allow more, lets them in, and what was allowed before stays allowed.
    aheadSeconds = 11;
    expect((await visitor.open(`${origin}/accounts`)).text).toContain("Connect Ledgerhouse");
    expect((await connectAs("Maren")).text).toBe("Books");
    expect((await store.findAllKept({}))[0]?.scope).toBe("books.read offline books.write");
  });
});

describe("an account of another environment", () => {
  it("is not used, and said to be of the other", async () => {
    const { origin, use } = await listening();
    const of = (environment: "sandbox" | "live") => {
      const {
        store: kept,
        platform,
        ...data
      } = settingsAt(origin, environment === "sandbox" ? practice.ledgerSandbox : practice.ledger);
      return createSignIn({
        environment,
        environments: { sandbox: data, live: data },
        store: kept,
        platform,
      });
    };
    const sandbox = await of("sandbox");
    use(
      nodeListener(
        sandbox,
        sandbox.protect(async (_, session) => Response.json(await session.accounts())),
      ),
    );
    await signInAs(origin, "Maren");
    await connect(origin, "Ferrywell Rowing Club");
    const [person] = (await store.findSessions({})).map((found) => found.person.id);
    expect((await sandbox.fetchFor(person!, "ledger", "/api/company")).status).toBe(200);
    const live = await of("live");
    expect(await live.accounts(person!)).toEqual([]);
    const problem = await problemOf(() => live.fetchFor(person!, "ledger", "/api/company"));
    expect(problem.code).toBe("connection.other-environment");
    expect(problem.received).toContain('"sandbox"');
    expect(problem.expected).toContain('"live"');
  });
});

describe("an app that has its own sign-in", () => {
  it("says whose a request is, and gets the rest", async () => {
    const { origin, use } = await listening();
    // Five lines of a log-in that is not ours.
    const users = new Map([["k-1", "member-1"]]);
    const personOf = (request: Request) =>
      users.get(/club=([\w-]+)/.exec(request.headers.get("cookie") ?? "")?.[1] ?? "");
    const connections = await createConnections({ ...settingsAt(origin), personOf });
    use(
      nodeListener(connections, async (request) => {
        if (new URL(request.url).pathname === "/log-in")
          return new Response("Hello", {
            headers: { "set-cookie": "club=k-1; Path=/; HttpOnly; SameSite=Lax" },
          });
        const member = await connections.personOf(request);
        return member === undefined
          ? new Response("Log in", { status: 401 })
          : Response.json(await connections.accounts(member));
      }),
    );
    expect((await visitor.open(`${origin}/sign-in/connect/ledgerhouse`)).text).toContain(
      "(session.not-signed-in)",
    );
    await visitor.open(`${origin}/log-in`);
    const page = await connect(origin, "Ferrywell Rowing Club");
    expect(page.url).toBe(`${origin}/accounts`);
    expect(page.text).toContain("Ferrywell Rowing Club");
    expect(await (await connections.fetchFor("member-1", "ledger", "/api/company")).json()).toEqual({
      id: "fw-club",
      title: "Ferrywell Rowing Club",
    });
    const fetchBooks = connections.fetchAt("member-1", "ledger");
    expect(() => connections.fetchAt("member-1", "ledger", "fw-club" as never)).toThrow(
      "It cannot be told which account a call is for",
    );
    expect((await problemOf(() => connections.disconnect("member-1", {} as never))).code).toBe(
      "connection.none",
    );
    expect((await fetchBooks(`${practice.ledger}/api/invoices`)).status).toBe(200);
    for (const [member, account, because] of [
      ["member-2", undefined, "own-sign-in"],
      ["member-2", "fw-boats", "own-sign-in"],
      ["member-1", "fw-boats", "account"],
    ] as const)
      expect(await problemOf(() => connections.fetchFor(member, "ledger", "/", { account }))).toMatchObject({
        code: "connection.none",
        because,
      });
    const [account] = await connections.accounts("member-1");
    // Nobody in particular is not everybody, nor the only one there is.
    for (const none of [undefined, null, "", 7, { id: "member-1" }] as never[])
      for (const work of [
        () => connections.fetchFor(none, "ledger", "/api/company"),
        () => connections.fetchAt(none, "ledger")("/api/company"),
        () => connections.accounts(none),
        () => connections.disconnect(none, account!.id),
        () => connections.forget(none),
      ])
        expect((await problemOf(work)).code).toBe("session.person-unusable");
    expect(await connections.accounts("member-1")).toHaveLength(1);
    expect((await problemOf(() => connections.fetchFor("member-1", "ledger", undefined as never))).code).toBe(
      "connection.other-origin",
    );
    expect(await connections.disconnect("member-2", account!.id)).toBe(false);
    expect(await connections.disconnect("member-1", account!.id)).toBe(true);
    await connect(origin, "Ferrywell Boat Hire");
    expect([await connections.forget("member-1"), await connections.forget("member-1")]).toEqual([
      true,
      false,
    ]);
    // Nobody signs in by it, whatever else is in its settings.
    expect((await visitor.open(`${origin}/sign-in`)).text).toContain("(server.route-unknown)");
    expect((await visitor.open(`${origin}/sign-in/to/quayside`)).text).toContain(
      "(provider.not-for-sign-in)",
    );
    expect(visitor.cookies.get("localhost")?.has("tenonsaw-session")).toBe(false);
    expect(await store.findAllKept({})).toEqual([]);
  });

  it("keeps a cookie with SameSite=Strict, which comes only once a page of its own has led to the callback", async () => {
    const { origin, use } = await listening();
    let isIn = true;
    const personOf = (request: Request) =>
      isIn && request.headers.get("sec-fetch-site") !== "cross-site" ? "member-1" : undefined;
    const connections = await createConnections({ ...settingsAt(origin), personOf });
    use(nodeListener(connections, async () => new Response("accounts")));
    const comeBack = async () =>
      visitor.open(await callbackOf(origin), { "sec-fetch-site": "cross-site", accept: "text/html" });
    await comeBack();
    expect(await connections.accounts("member-1")).toEqual([]);
    expect(visitor.page?.text).toContain("<h1>Connect Ledgerhouse</h1>");
    expect((await visitor.press("Continue")).text).toBe("accounts");
    expect(await connections.accounts("member-1")).toHaveLength(1);
    // Who is nobody then, is.
    await comeBack();
    isIn = false;
    expect((await visitor.press("Continue")).text).toContain("(connection.person-changed)");
  });

  it.each([[7], [""], ["a\u0000b"], ["x".repeat(256)]])("is told that %j is nobody's ID", async (answer) => {
    const { origin, use } = await listening();
    const connections = await createConnections({ ...settingsAt(origin), personOf: () => answer as string });
    use(nodeListener(connections, async () => new Response()));
    expect((await visitor.open(`${origin}/sign-in/connect/ledgerhouse`)).text).toContain(
      "(session.person-unusable)",
    );
  });

  it("takes back what was granted when whoever says whose a request is fails in between", async () => {
    const { origin, use } = await listening();
    const events: TraceEvent[] = [];
    let asked = 0;
    const personOf = () => {
      asked += 1;
      if (asked > 3) throw new Error("the log-in is away");
      return "member-1";
    };
    const trace = (event: TraceEvent) => events.push(event);
    const connections = await createConnections({ ...settingsAt(origin), trace, personOf });
    use(nodeListener(connections, async () => new Response()));
    const page = await connect(origin, "Ferrywell Rowing Club");
    expect([page.status, asked]).toEqual([500, 4]);
    expect(page.text).toContain("Error, thrown by `personOf`");
    expect(events.flatMap((event) => (event.kind === "leg" ? [event.leg] : []))).toContain(
      "revocation request",
    );
    expect(await store.findAllKept({})).toEqual([]);
  });

  it("is told that whoever says whose a request is never does", async () => {
    const { origin, use } = await listening();
    const personOf = () => new Promise<string>(() => undefined);
    use(
      nodeListener(
        await createConnections({ ...settingsAt(origin), platform: hurried(), personOf }),
        async () => new Response(),
      ),
    );
    expect((await visitor.open(`${origin}/sign-in/connect/ledgerhouse`)).text).toContain(
      "`personOf` has not answered for 30 s",
    );
  });

  it("is not put together without whoever says whose a request is, nor with what is for signing in", async () => {
    const settings = settingsAt("http://localhost:5173");
    const personOf = () => "member-1";
    const { ledgerhouse } = settings.providers;
    const connecting = { ...settings, providers: { ledgerhouse } };
    const found = async (made: Promise<unknown>) => {
      const { code, findings = [] } = await problemOf(() => made);
      return [code, findings.map(({ path, message }) => `${path} ${message}`).join()];
    };
    for (const [made, said] of [
      [createConnections(settings as never), "personOf must be a function"],
      [createConnections(undefined as never), "(settings) must be an object"],
      [
        createConnections(Promise.resolve(settings) as never),
        "(settings) must be an object, and is a promise",
      ],
      [
        createConnections({ ...settings, personOf, welcome: () => ({}) } as never),
        "welcome must be left out",
      ],
      [createSignIn({ ...settings, personOf } as never), "personOf belongs to createConnections"],
      [createSignIn(connecting as never), "connections leaves no provider to sign in with"],
    ] as const)
      expect(await found(made)).toEqual(["provider.settings-refused", expect.stringContaining(said)]);
  });
});

describe("a health check", () => {
  it("asks the store and no provider, with a sign-in of this app's own and without", async () => {
    const before = asked.length;
    const settings = settingsAt("http://localhost:5173");
    const { apis: _none, connections: _neither, ...signingIn } = settings;
    const apps = [
      await createSignIn(signingIn),
      await createConnections({ ...settings, personOf: () => "member-1" }),
    ];
    for (const app of apps) await expect(app.ready()).resolves.toBeUndefined();
    store.isMarked = () => Promise.reject(new Error("the store is away"));
    const answer = createServer(
      nodeListener(apps[0]!, async () => apps[0]!.ready().then(() => new Response())),
    );
    const port = await new Promise<number>((resolve) =>
      answer.listen(0, "localhost", () => resolve((answer.address() as AddressInfo).port)),
    );
    stops.push(() => new Promise((resolve) => answer.close(resolve)));
    for (const app of apps) expect((await problemOf(() => app.ready())).code).toBe("store.unavailable");
    expect((await fetch(`http://localhost:${port}/health`)).status).toBe(503);
    expect(asked.length).toBe(before);
  });
});
