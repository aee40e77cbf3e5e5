import type { ConnectionSettings } from "tenonsaw/server";

/** What every app knows Ledgerhouse by, or its sandbox: where it is. */
export function ledgerhouseAt(place: string) {
  return {
    title: "Ledgerhouse",
    issuer: place,
    clientId: "ferrywell",
    clientSecret: { env: "LEDGERHOUSE_SECRET" },
    scope: "books.read",
    discovery: "none",
    metadata: {
      authorizationEndpoint: `${place}/oauth/authorize`,
      tokenEndpoint: `${place}/oauth/token`,
      revocationEndpoint: `${place}/oauth/revoke`,
      userinfoEndpoint: `${place}/api/me`,
    },
    profile: { subject: "/userId" },
    deviations: { noIdToken: true, keepCallbackParameters: ["company"] },
  } as const;
}

export const companies: ConnectionSettings = {
  scope: "books.read offline",
  scopeWords: { "books.read": "read the books", offline: "while you are away" },
  account: {
    parameter: "company",
    confirmedBy: { api: "ledger", path: "/api/company" },
    name: "/title",
  },
};
