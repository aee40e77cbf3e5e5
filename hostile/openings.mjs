// What a stranger, or a neighbour with a page or a token of their own, does to be let in: each attack counts how often it opened
// something, which has to be never. In one process: nothing here is about load.
import { createServer } from "node:http";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { openGuard } from "tenonsaw/guard";
import { nodeListener } from "tenonsaw/node";
import { createSignIn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { sealingKey } from "../scripts/sealing-key.mjs";

const silent = { onProblem: () => undefined };
const client = { clientId: "ferrywell", clientSecret: "only-for-practice" };

/** @returns for each attack how many times it was tried, and how many times it opened something */
export async function tryOpenings() {
  const practice = await startPractice();
  let reached = 0;
  const hosts = await listen((_, answer) => {
    reached += 1;
    answer.end("{}");
  });
  const app = await startApp(practice, hosts.origin);
  const attacks = {
    "names of tenants that are not admitted, and of paths above": async () => {
      const names = [
        "weir",
        "..",
        ".",
        "",
        "%2e%2e",
        "mill.lane",
        "mill-lane%2f..",
        "__proto__",
        "constructor",
      ];
      const places = ["to", "from", "connect", "front-channel"];
      for (const place of places)
        for (const name of names) await fetch(`${app.origin}/sign-in/${place}/clinic.${name}?state=x&code=y`);
      await fetch(`${app.origin}/sign-in/from/clinic.mill-lane?state=${"s".repeat(43)}&code=c`);
      return [places.length * names.length + 1, reached];
    },
    "operations that every object inherits, and needs that say nothing": async () => {
      const guard = await openGuard({
        issuer: practice.issuer,
        audience: "https://tides.example",
        ...silent,
      });
      const needs = { tides: { scope: "tides.read" } };
      const token = await practice.token({ audience: "https://tides.example", scope: "none" });
      const headers = { authorization: `Bearer ${token}` };
      const asked = ["__proto__", "constructor", "toString", "missing"].map((name) => () => needs[name]);
      const said = [undefined, null, {}, "", Object.create({ scope: "none" })].map((value) => () => value);
      let opened = 0;
      for (const wanted of [...asked, ...said]) {
        const route = guard.protect(() => new Response("in"), wanted);
        const answer = await route(new Request("https://tides.example/", { headers })).catch(() => undefined);
        if (answer?.status === 200) opened += 1;
      }
      return [asked.length + said.length, opened];
    },
    "proofs once more, made for another address, and at a guard that does not know its own": async () => {
      const url = "https://tides.example/";
      const store = createMemoryStore();
      const settings = { issuer: practice.issuer, audience: "https://tides.example", store, ...silent };
      const guards = [await openGuard(settings), await openGuard(settings)];
      const nameless = await openGuard({ issuer: practice.issuer, audience: "tides", ...silent });
      let opened = 0;
      const tries = async (guard, token, dpop, at) => {
        const request = new Request(at, { headers: { authorization: `DPoP ${token}`, dpop } });
        await guard.admit(request, "any-caller").then(
          () => (opened += 1),
          () => undefined,
        );
      };
      const token = await practice.token({ audience: "https://tides.example", bound: true });
      const dpop = await practice.proof({ token, url });
      const first = new Request(url, { headers: { authorization: `DPoP ${token}`, dpop } });
      await guards[0].admit(first, "any-caller");
      for (const guard of guards) await tries(guard, token, dpop, url);
      await tries(guards[0], token, await practice.proof({ token, url: "http://localhost/" }), url);
      const other = await practice.token({ audience: "tides", bound: true });
      for (const at of ["http://localhost/", "https://elsewhere.example/"])
        await tries(nameless, other, await practice.proof({ token: other, url: at }), at);
      return [5, opened];
    },
    "calls of a page that was drawn for somebody else": async () => {
      const [maren, zoe] = [await app.signIn("Maren"), await app.signIn("Zoë")];
      const here = { origin: app.origin, "sec-fetch-site": "same-origin", "sec-fetch-dest": "empty" };
      const { personTag } = await (await maren.fetch(`${app.origin}/sign-in/session`)).json();
      const calls = ["/relay/tidebook/tides/today", "/accounts"];
      let opened = 0;
      for (const path of calls) {
        const headers = { ...here, "tenonsaw-person": personTag };
        const { status } = await zoe.fetch(`${app.origin}/sign-in${path}`, { headers });
        if (status !== 409) opened += 1;
      }
      return [calls.length, opened];
    },
    "links, images, scripts and pings at the relay": async () => {
      const maren = await app.signIn("Maren");
      const kinds = [
        { "sec-fetch-dest": "script" },
        { "sec-fetch-dest": "image" },
        { "sec-fetch-dest": "document" },
        { "sec-fetch-site": "cross-site", "sec-fetch-dest": "empty" },
      ];
      let opened = 0;
      for (const kind of kinds) {
        const headers = { "sec-fetch-site": "same-origin", ...kind };
        const { status } = await maren.fetch(`${app.origin}/sign-in/relay/tidebook/tides/today`, { headers });
        if (status === 200) opened += 1;
      }
      return [kinds.length, opened];
    },
  };
  const done = [];
  for (const [attack, play] of Object.entries(attacks)) {
    const [tried, opened] = await play();
    done.push({ attack, tried, opened });
  }
  app.stop();
  hosts.stop();
  await practice.stop();
  return done;
}

async function startApp(practice, hosts) {
  let listener = () => undefined;
  const { origin, stop } = await listen((incoming, outgoing) => listener(incoming, outgoing));
  practice.register({
    ...defaultClient,
    redirectUris: [`${origin}/sign-in/from/quayside`],
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
  });
  const signIn = await createSignIn({
    origin,
    keys: sealingKey,
    store: createMemoryStore(),
    ...silent,
    providers: {
      quayside: { issuer: practice.issuer, ...client, scope: "openid profile tides.read" },
      clinic: {
        ...client,
        issuer: `${hosts}/{house}/fhir`,
        discovery: "smart",
        scope: "openid fhirUser",
        launch: { tenants: { placeholder: "{house}", admitted: ["mill-lane"] } },
      },
    },
    apis: { tidebook: { provider: "quayside", origin: practice.tidebook, relay: ["/**"] } },
  });
  listener = nodeListener(signIn, () => new Response("a page"));
  return {
    origin,
    stop,
    async signIn(person) {
      const visitor = createVisitor();
      await visitor.open(`${origin}/sign-in/to/quayside?returnTo=/`);
      await visitor.press(person);
      if (visitor.page.text.includes("Yes, allow")) await visitor.press("Yes, allow");
      return visitor;
    },
  };
}

async function listen(listener) {
  const server = createServer(listener);
  await new Promise((resolve) => server.listen(0, "localhost", resolve));
  return {
    origin: `http://localhost:${server.address().port}`,
    stop() {
      server.closeAllConnections();
      server.close();
    },
  };
}
