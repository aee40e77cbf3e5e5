import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { expect, it } from "vitest";
import { nodeListener } from "tenonsaw/node";
import { createConnections } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { openBrowser, pagesIn } from "./support/browsers.js";
import { companies, ledgerhouseAt } from "./support/ledgerhouse.js";
import { startExample } from "./support/start-example.js";

interface Home {
  readonly connected: readonly { readonly id: string; readonly account: string; readonly name: string }[];
  readonly connectable: readonly { readonly title: string; readonly connectPath: string }[];
  readonly disconnectPath: string;
}

it("an app with a log-in of its own has its members connect companies, and reads their books", async () => {
  const { origin, stop } = await startExample("own-log-in", "ledgerhouse");
  try {
    const visitor = createVisitor();
    const home = () => JSON.parse(visitor.page?.text ?? "") as Home;
    await visitor.open(`${origin}/log-in?member=1`);
    expect(home()).toMatchObject({ connected: [], connectable: [{ title: "Ledgerhouse" }] });
    for (const company of ["Ferrywell Rowing Club", "Ferrywell Boat Hire"]) {
      await visitor.open(origin);
      const [ledgerhouse] = home().connectable;
      await visitor.open(`${origin}${ledgerhouse!.connectPath}?returnTo=/`);
      await visitor.press("Connect Ledgerhouse");
      await visitor.press("Ib");
      await visitor.press(company);
    }
    expect(home().connected.map(({ name }) => name)).toEqual([
      "Ferrywell Boat Hire",
      "Ferrywell Rowing Club",
    ]);
    expect((await visitor.open(`${origin}/books?account=fw-club`)).text).toContain('"amount":120');
    expect((await visitor.open(`${origin}/books`)).text).toContain("(connection.account-unclear)");
    await visitor.open(origin);
    const { connected, disconnectPath } = home();
    const page = await visitor.post(`${origin}${disconnectPath}`, {
      connection: connected[0]!.id,
      returnTo: "/books",
    });
    expect(page.text).toContain('"amount":120');
    const other = createVisitor();
    expect((await other.open(`${origin}/books`)).status).toBe(401);
    await other.open(`${origin}/log-in?member=2`);
    expect((await other.open(`${origin}/books`)).text).toContain("(connection.none)");
  } finally {
    await stop();
  }
});

it.skipIf(!pagesIn)(
  "a log-in whose cookie is SameSite=Strict connects a company in a browser, and stays",
  async () => {
    const practice = await startPractice();
    const server = createServer();
    // Another site than the provider's, which is localhost.
    await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
    const origin = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
    practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/ledgerhouse`] });
    const seen: [method: string, site: string, member: string | undefined][] = [];
    const memberOf = (request: Request) => /club=(\w+)/.exec(request.headers.get("cookie") ?? "")?.[1];
    const connections = await createConnections({
      origin,
      keys: Buffer.alloc(32, 7).toString("base64url"),
      store: createMemoryStore(),
      personOf: memberOf,
      providers: { ledgerhouse: { ...ledgerhouseAt(practice.ledger), clientSecret: "only-for-practice" } },
      apis: { ledger: { provider: "ledgerhouse", origin: practice.ledger } },
      connections: { ledgerhouse: companies },
    });
    const app = nodeListener(connections, (request) => {
      const isLogIn = new URL(request.url).pathname === "/log-in";
      const headers = { "content-type": "text/html" };
      if (isLogIn) Object.assign(headers, { "set-cookie": "club=maren; Path=/; HttpOnly; SameSite=Strict" });
      return new Response(`<h1>Books of ${memberOf(request) ?? "nobody"}</h1>`, { headers });
    });
    server.on("request", (incoming, outgoing) => {
      const { method = "", url = "", headers } = incoming;
      const member = /club=(\w+)/.exec(headers.cookie ?? "")?.[1];
      if (url.includes("/from/")) seen.push([method, String(headers["sec-fetch-site"]), member]);
      app(incoming, outgoing);
    });
    const browser = await openBrowser();
    try {
      const page = await browser.newPage();
      await page.goto(`${origin}/log-in`);
      await page.goto(`${origin}/sign-in/connect/ledgerhouse?returnTo=/books`);
      await page.getByRole("button", { name: "Connect Ledgerhouse" }).click();
      await page.getByText("Maren Holt").click();
      await page.getByText("Ferrywell Rowing Club").click();
      await page.getByRole("heading", { name: "Books of maren" }).waitFor();
      expect(page.url()).toBe(`${origin}/books`);
      expect(seen).toEqual([
        ["GET", "cross-site", undefined],
        ["POST", "same-origin", "maren"],
      ]);
      expect(await connections.accounts("maren")).toMatchObject([{ account: "fw-club" }]);
    } finally {
      await browser.close();
      server.closeAllConnections();
      server.close();
      await practice.stop();
    }
  },
);
