// The server's part: it signs people in, keeps the tokens, and calls the APIs for the page.
import { forExpress } from "tenonsaw/express";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const {
  ORIGIN: origin = "http://localhost:5173",
  QUAYSIDE: quayside = "http://localhost:4600",
  TIDEBOOK: tidebook = "http://localhost:4601",
  LEDGERHOUSE: ledgerhouse = "http://localhost:4606",
  DATABASE: database = "app.db",
} = process.env;

/** As middleware for Vite, and for every server that knows such. */
export async function signInMiddleware() {
  const signIn = await createSignIn({
    origin,
    store: openSqliteStore(database),
    providers: {
      quayside: {
        title: "Quayside ID",
        issuer: quayside,
        clientId: "ferrywell",
        clientSecret: { env: "QUAYSIDE_SECRET" },
        scope: "openid profile offline_access tides.read",
      },
      ledgerhouse: {
        title: "Ledgerhouse",
        issuer: ledgerhouse,
        clientId: "ferrywell",
        clientSecret: { env: "QUAYSIDE_SECRET" },
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
    connections: {
      ledgerhouse: {
        scopeWords: { "books.read": "read the books", offline: "also while you are away" },
        account: {
          parameter: "company",
          confirmedBy: { api: "ledger", path: "/api/company" },
          name: "/title",
        },
      },
    },
    apis: {
      tidebook: {
        provider: "quayside",
        origin: tidebook,
        relay: ["/tides/*", "/slots", "POST,DELETE /slots/*"],
      },
      ledger: { provider: "ledgerhouse", origin: ledgerhouse },
    },
    toldToPages: ["name", "picture"],
    sessionEventsSeconds: 2,
    development: true,
  });
  return forExpress(signIn).middleware;
}
