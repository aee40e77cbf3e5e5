// Mistakes of an app that has its own log-in, whose members connect companies at Ledgerhouse.
import { createServer } from "node:http";
import { createConnections, describeReport } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { createPlatform } from "tenonsaw/platform";
import { isProblem, problemText } from "tenonsaw/problem";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createVisitor } from "tenonsaw-practice";
import { clock, origin, practice, register } from "./places.mjs";

const ledgerhouse = {
  title: "Ledgerhouse",
  issuer: practice.ledger,
  clientId: "ferrywell",
  clientSecret: { env: "QUAYSIDE_SECRET" },
  scope: "books.read offline",
  discovery: "none",
  metadata: {
    authorizationEndpoint: `${practice.ledger}/oauth/authorize`,
    tokenEndpoint: `${practice.ledger}/oauth/token`,
    revocationEndpoint: `${practice.ledger}/oauth/revoke`,
    userinfoEndpoint: `${practice.ledger}/api/me`,
  },
  profile: { subject: "/userId" },
  deviations: { noIdToken: true, keepCallbackParameters: ["company", "unit"] },
};
const company = {
  parameter: "company",
  confirmedBy: { api: "ledger", path: "/api/company" },
  name: "/title",
};

/**
 * What such an app says of it: the lines of its log, or the problem that a call of its ends in.
 *
 * @param changes of its settings
 * @param then what is done once companies are connected, with the app's `connections`
 */
function connecting({ account = company, changes = {}, companies = ["Ferrywell Rowing Club"], then }) {
  return async () => {
    const lines = [];
    const said = (error) => {
      if (!isProblem(error)) throw error;
      lines.push(problemText(error.problem));
    };
    const settings = {
      origin,
      store: createMemoryStore(),
      platform: createPlatform({ print: () => undefined, now: () => Date.now() / 1000 + clock.ahead }),
      personOf: () => "member-1",
      onProblem: (report) => lines.push(describeReport(report)),
      providers: { ledgerhouse },
      apis: { ledger: { provider: "ledgerhouse", origin: practice.ledger } },
      connections: { ledgerhouse: { account } },
      ...changes,
    };
    register(`${origin}/sign-in/from/ledgerhouse`);
    const server = createServer();
    try {
      const connections = await createConnections(settings);
      server.on(
        "request",
        nodeListener(connections, async () => new Response("Books")),
      );
      await new Promise((resolve) => server.listen(new URL(origin).port, "localhost", resolve));
      for (const each of companies) await connect(each);
      await then?.(connections, settings);
    } catch (error) {
      said(error);
    } finally {
      server.closeAllConnections();
      server.close();
    }
    return { shown: "node server.mjs", output: lines.join("\n") };
  };
}

/** As a member does; what goes wrong on the way ends it. */
async function connect(name) {
  const visitor = createVisitor();
  await visitor.open(`${origin}/sign-in/connect/ledgerhouse`);
  for (const button of ["Connect Ledgerhouse", "Maren Holt", name]) {
    if (visitor.page.status >= 400) return;
    await visitor.press(button);
  }
  if (visitor.page.text.includes(">Continue<")) await visitor.press("Continue");
}

const unreadable = { cause: /connection\.account-unreadable/ };
let asked = 0;

export const connectedAccounts = [
  {
    title: "A member's number in place of a text",
    find: connecting({ changes: { personOf: () => 17 } }),
    says: { cause: /named a person by a number/, received: /Received: 17/, side: /String\(id\)/ },
  },
  {
    title: "A member's whole record in place of their ID",
    find: connecting({ changes: { personOf: () => ({ id: "member-1", name: "Maren" }) } }),
    says: {
      cause: /named a person that this cannot be/,
      received: /an object with "id", "name"/,
      side: /the person's ID, and nothing else/,
    },
  },
  {
    title: "A log-in that fails",
    find: connecting({
      changes: {
        personOf: () => {
          throw new RangeError("no such table: members");
        },
      },
    }),
    says: {
      cause: /RangeError: no such table: members/,
      received: /RangeError, thrown by `personOf`/,
      side: /Find the error and its stack/,
    },
  },
  {
    title: "The routes before the log-in",
    find: connecting({ changes: { personOf: (_, original) => original.user?.id } }),
    says: {
      cause: /Nobody is signed in/,
      received: /nobody, as `personOf` says/,
      side: /after what knows who is signed in/,
    },
  },
  {
    title: "A member who has logged out meanwhile",
    plant: () => (asked = 0),
    find: connecting({ changes: { personOf: () => (++asked <= 2 ? "member-1" : undefined) } }),
    says: {
      cause: /Nobody is signed in any more who began/,
      received: /nobody who is signed in/,
      expected: /the same person/,
      side: /let them sign in and begin again/,
    },
  },
  {
    title: "A parameter of the callback that is not kept",
    find: connecting({ account: { ...company, parameter: "organisation" } }),
    says: {
      cause: /connections\.ledgerhouse\.account\.parameter/,
      side: /must be in deviations\.keepCallbackParameters of ledgerhouse/,
    },
  },
  {
    title: "A parameter that the callback does not have",
    find: connecting({ account: { parameter: "unit" } }),
    says: {
      cause: /The callback does not say which account/,
      received: /nothing at the parameter unit/,
      side: /Compare `account\.parameter` with what the provider documents/,
    },
  },
  {
    title: "A path that the API does not have",
    find: connecting({ account: { ...company, confirmedBy: { api: "ledger", path: "/api/v2/company" } } }),
    says: { ...unreadable, received: /status 404/, side: /Correct `confirmedBy\.path`/ },
  },
  {
    title: "A page for people where the account is to be read",
    find: connecting({ account: { ...company, confirmedBy: { api: "ledger", path: "/" } } }),
    says: {
      ...unreadable,
      received: /which is no JSON object/,
      expected: /a JSON object/,
      side: /Correct `confirmedBy\.path`/,
    },
  },
  {
    title: "A pointer to an ID that is not there",
    find: connecting({ account: { ...company, id: "/companyId" } }),
    says: { ...unreadable, received: /nothing at \/companyId/, side: /Compare `connections/ },
  },
  {
    title: "A pointer to a name that is not there",
    find: connecting({ account: { ...company, name: "/label" } }),
    says: {
      cause: /What the connected account is called could not be found out/,
      received: /nothing at \/label/,
      side: /Correct `account\.name`/,
    },
  },
  {
    title: "A connection that nothing renews",
    find: connecting({
      changes: { providers: { ledgerhouse: { ...ledgerhouse, scope: "books.read" } } },
      then: (connections) => {
        clock.ahead = 7200;
        return connections.fetchFor("member-1", "ledger", "/api/company");
      },
    }),
    says: {
      cause: /The access token is over, and nothing renews it/,
      received: /an access token for "books\.read" that is over, and no refresh token/,
      side: /ask for the scope that yields a refresh token/,
    },
  },
  {
    title: "Two companies, and none is named",
    find: connecting({
      companies: ["Ferrywell Rowing Club", "Ferrywell Boat Hire"],
      then: (connections) => connections.fetchFor("member-1", "ledger", "/api/company"),
    }),
    says: {
      cause: /Several of the person's accounts could be meant/,
      received: /2 connected accounts/,
      expected: /one of the accounts "fw-\w+" \(Ferrywell [\w ]+\), "fw-\w+"/,
      side: /Name the account/,
    },
  },
  {
    title: "A company by its name in place of its ID",
    find: connecting({
      then: (connections) =>
        connections.fetchFor("member-1", "ledger", "/api/company", { account: "Ferrywell Rowing Club" }),
    }),
    says: {
      cause: /has not connected this account/,
      received: /connected are "fw-club" \(Ferrywell Rowing Club\)/,
      side: /Name one of those/,
    },
  },
  {
    title: "An account in a member of another name",
    find: connecting({
      then: (connections) =>
        connections.fetchFor("member-1", "ledger", "/api/company", { accountId: "fw-boats" }),
    }),
    says: {
      cause: /cannot be told which account a call is for/,
      received: /"accountId"/,
      expected: /\{ account: /,
      side: /a member that is called `account`/,
    },
  },
  {
    title: "A view of an account in place of its connection's ID",
    find: connecting({
      then: async (connections) =>
        connections.disconnect("member-1", (await connections.accounts("member-1"))[0]),
    }),
    says: {
      cause: /has no connection of this ID/,
      received: /an object with "id", "provider"/,
      side: /Take the ID from the list/,
    },
  },
  {
    title: "Connected in the sandbox, called in production",
    find: connecting({
      changes: {
        providers: undefined,
        environment: "sandbox",
        environments: { sandbox: { providers: { ledgerhouse } }, production: { providers: { ledgerhouse } } },
      },
      then: async (_, settings) => {
        const production = await createConnections({ ...settings, environment: "production" });
        await production.fetchFor("member-1", "ledger", "/api/company");
      },
    }),
    says: {
      cause: /connected in another environment/,
      received: /connected in "sandbox"/,
      expected: /connected in "production"/,
      side: /TENONSAW_ENV/,
    },
  },
];
