/** The law: what ends, ends everywhere; and what was replaced is taken back with what has replaced it. */
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createVisitor, defaultClient, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { companies, ledgerhouseAt } from "./support/ledgerhouse.js";
import { startApp, type App } from "./support/start-app.js";

let practice: Practice;
let app: App;
let visitor: Visitor;
let store: ReturnType<typeof createMemoryStore>;
let asked: string[] = [];
/** What is done before the ledger says which company was connected. */
let meanwhile: () => Promise<unknown> = () => Promise.resolve();

beforeAll(async () => {
  practice = await startPractice({ log: (line) => asked.push(line) });
});
afterAll(() => practice.stop());
beforeEach(async () => {
  store = createMemoryStore();
  visitor = createVisitor();
  meanwhile = () => Promise.resolve();
  const client = { clientId: "ferrywell", clientSecret: "only-for-practice" };
  app = await startApp(
    practice,
    {
      providers: {
        quayside: { issuer: practice.issuer, ...client, scope: "openid profile tides.read" },
        ledgerhouse: { ...ledgerhouseAt(practice.ledger), ...client },
      },
      apis: {
        ledger: { provider: "ledgerhouse", origin: practice.ledger, relay: ["/api/invoices"] },
      },
      connections: { ledgerhouse: companies },
    },
    {
      ...store,
      // The last thing that is read before an account is kept.
      async findAllKept(query) {
        if (query.account !== undefined) await meanwhile();
        return store.findAllKept(query);
      },
    },
  );
  practice.register({
    ...defaultClient,
    redirectUris: ["quayside", "ledgerhouse"].map((name) => `${app.origin}/sign-in/from/${name}`),
    postLogoutRedirectUris: [`${app.origin}/sign-in/out/done`],
  });
  await visitor.open(`${app.origin}/sign-in/to/quayside?returnTo=/`);
  await visitor.press("Maren");
  await visitor.press("Yes, allow");
});
afterEach(() => app.stop());

async function connect(query = ""): Promise<string> {
  await visitor.open(`${app.origin}/sign-in/connect/ledgerhouse?returnTo=/${query}`);
  await visitor.press("Connect Ledgerhouse");
  if (visitor.page?.text.includes("Maren Holt")) await visitor.press("Maren Holt");
  return (await visitor.press("Ferrywell Rowing Club")).text;
}
const revocations = () => asked.filter((line) => line.includes("/oauth/revoke")).length;

describe("a person who is removed", () => {
  it.each([
    ["while the provider says which account it is", (id: string) => app.signIn.forget(id)],
    ["or signs out everywhere", (id: string) => app.signIn.endSessions(id)],
  ])("%s, has no account connected after it, and its tokens are taken back", async (_, end) => {
    const [found] = await store.findSessions({});
    asked = [];
    meanwhile = async () => {
      meanwhile = () => Promise.resolve();
      await end(found!.person.id);
    };
    expect(await connect()).toContain("connection.person-changed");
    expect(await store.findAllKept({})).toEqual([]);
    expect(revocations()).toBe(1);
  });
});

describe("an account that is connected again", () => {
  it("leaves no token behind: to disconnect it takes back those that were replaced as well", async () => {
    for (let times = 0; times < 3; times += 1) await connect();
    const [kept, ...more] = await store.findAllKept({});
    expect(more).toEqual([]);
    asked = [];
    await app.signIn.disconnect(kept!.personId, kept!.id);
    expect(revocations()).toBe(3);
  });
});

describe("a relay rule", () => {
  it("holds for each hop: a redirect of the API leads to nothing that pages may not call", async () => {
    const seen: string[] = [];
    const api = createServer((incoming, outgoing) => {
      seen.push(incoming.url ?? "");
      if (incoming.url === "/open/go") outgoing.writeHead(302, { location: "/secret" });
      if (incoming.url === "/open/on") outgoing.writeHead(307, { location: "/open/there" });
      outgoing.end("done");
    });
    await new Promise<void>((resolve) => api.listen(0, "localhost", resolve));
    const origin = `http://localhost:${(api.address() as AddressInfo).port}`;
    const made = await startApp(practice, {
      apis: { open: { provider: "quayside", origin, relay: ["/open/*"] } },
    });
    const own = createVisitor();
    await own.open(`${made.origin}/sign-in/to/quayside?returnTo=/`);
    await own.press("Maren");
    await own.press("Yes, allow");
    const call = async (path: string) => {
      const headers = { origin: made.origin, "sec-fetch-site": "same-origin", "sec-fetch-dest": "empty" };
      return own.fetch(`${made.origin}/sign-in/relay/open${path}`, { headers });
    };
    expect(await (await call("/open/on")).text()).toBe("done");
    expect((await call("/open/go")).status).toBe(302);
    expect(seen).toEqual(["/open/on", "/open/there", "/open/go"]);
    await made.stop();
    api.close();
  });
});
