// An app that has its own log-in: its members connect companies at Ledgerhouse, and it reads their books.
import { createServer } from "node:http";
import { randomUUID } from "node:crypto";
import { createConnections, passOn } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

// The log-in, which is not ours: whatever yours is, it knows whose a request is.
const loggedIn = new Map();
const keyOf = (request) => /(?:^|; )club=([\w-]+)/.exec(request.headers.get("cookie") ?? "")?.[1];
const personOf = (request) => loggedIn.get(keyOf(request));

const ledgerhouse = process.env.LEDGERHOUSE ?? "http://localhost:4606";
const connections = await createConnections({
  personOf,
  origin: "http://localhost:5173",
  store: openSqliteStore("app.db"),
  providers: {
    ledgerhouse: {
      title: "Ledgerhouse",
      issuer: ledgerhouse,
      clientId: "ferrywell",
      clientSecret: { env: "LEDGERHOUSE_SECRET" },
      scope: "books.read offline",
      discovery: "none",
      metadata: {
        authorizationEndpoint: `${ledgerhouse}/oauth/authorize`,
        tokenEndpoint: `${ledgerhouse}/oauth/token`,
        revocationEndpoint: `${ledgerhouse}/oauth/revoke`,
        userinfoEndpoint: `${ledgerhouse}/api/me`,
      },
      profile: { subject: "/userId" },
      deviations: { noIdToken: true, keepCallbackParameters: ["company"] },
    },
  },
  apis: { ledger: { provider: "ledgerhouse", origin: ledgerhouse, sample: "/api/company" } },
  connections: {
    ledgerhouse: {
      // The callback names the company; the API says whether that is so, and what it is called.
      account: { parameter: "company", confirmedBy: { api: "ledger", path: "/api/company" }, name: "/title" },
    },
  },
});

async function app(request) {
  const { pathname, searchParams } = new URL(request.url);
  if (pathname === "/log-in") {
    const key = randomUUID();
    loggedIn.set(key, searchParams.get("member"));
    const headers = { location: "/", "set-cookie": `club=${key}; Path=/; HttpOnly; SameSite=Lax` };
    return new Response(null, { status: 303, headers });
  }
  const member = personOf(request);
  if (!member) return new Response("Log in first: /log-in?member=1", { status: 401 });
  if (pathname === "/books") {
    const account = searchParams.get("account") ?? undefined;
    return passOn(await connections.fetchFor(member, "ledger", "/api/invoices", { account }));
  }
  const { connectable, disconnectPath } = connections;
  return Response.json({ connected: await connections.accounts(member), connectable, disconnectPath });
}

createServer(nodeListener(connections, app)).listen(5173, "localhost");
