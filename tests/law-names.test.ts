/** The law: a name is resolved in one place, by one rule. Whoever writes a name into an address reaches what is declared, or nothing. */
import { beforeEach, describe, expect, it } from "vitest";
import { createSignIn, type SignIn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { isAdmitted, tenantIn } from "../packages/tenonsaw/src/provider/index.js";
import { sealingKey } from "../scripts/sealing-key.mjs";
import { createFakeWorld, type FakeWorld } from "./support/fake-world.js";

const origin = "https://ferrywell.example";
const base = (house: string) => `https://records.example/${house}/fhir`;
let world: FakeWorld;
let signIn: SignIn;

beforeEach(async () => {
  world = createFakeWorld();
  for (const house of ["mill-lane", "riverside"])
    world.answers.set(
      `${base(house)}/.well-known/smart-configuration`,
      Response.json({
        issuer: base(house),
        // A dishonest house: its people are sent to another house, and their code would come back to it.
        authorization_endpoint: "https://records.example/riverside/authorize",
        token_endpoint: `https://records.example/${house}/token`,
        jwks_uri: `https://records.example/${house}/keys`,
        capabilities: [
          "launch-standalone",
          "client-confidential-symmetric",
          "permission-patient",
          "sso-openid-connect",
        ],
        code_challenge_methods_supported: ["S256"],
      }),
    );
  signIn = await createSignIn({
    origin,
    keys: sealingKey,
    store: createMemoryStore(),
    platform: world.platform,
    onProblem: () => undefined,
    providers: {
      clinic: {
        issuer: base("{house}"),
        discovery: "smart",
        clientId: "ferrywell",
        clientSecret: "only-for-tests",
        scope: "openid fhirUser",
        launch: { tenants: { placeholder: "{house}", admitted: ["mill-lane", "riverside"] } },
      },
    },
    apis: { record: { provider: "clinic", relay: ["/**"] } },
  } as never);
});

const visit = async (path: string, init: RequestInit = {}) => {
  const answer = await signIn.handle(new Request(origin + path, init));
  if (!answer) throw new TypeError(`${path} is none of the routes`);
  return answer;
};

const strangers = [
  "weir",
  "clinic",
  "..",
  ".",
  "",
  "mill-lane.x",
  "mill-lane.",
  "%2e%2e",
  "mill-lane%2f..",
  "MILL-LANE",
];
const post = { method: "POST", headers: { "sec-fetch-site": "same-origin", origin } };
const places: [string, (name: string) => string, RequestInit?][] = [
  ["a sign-in that begins", (name) => `/sign-in/to/${name}`],
  ["a callback", (name) => `/sign-in/from/${name}?code=x&state=${"s".repeat(43)}`],
  [
    "a callback in a form",
    (name) => `/sign-in/from/${name}`,
    { ...post, body: new URLSearchParams({ state: "x" }) },
  ],
  ["a link", (name) => `/sign-in/link/${name}`, { ...post, body: new URLSearchParams() }],
  ["a connection", (name) => `/sign-in/connect/${name}`],
  [
    "a notice of sign-out",
    (name) => `/sign-in/back-channel/${name}`,
    { ...post, body: new URLSearchParams() },
  ],
  ["a notice in a frame", (name) => `/sign-in/front-channel/${name}?iss=x&sid=y`],
];

describe("a tenant that is not admitted", () => {
  it.each(places)("is reached by nobody through %s", async (_, address, init) => {
    for (const tenant of strangers) {
      const answer = await visit(address(`clinic.${tenant}`), init);
      // Who is not signed in is asked to sign in first, at this app.
      const isOwn = answer.headers.get("location")?.startsWith(`${origin}/sign-in?`) === true;
      expect([tenant, isOwn || (answer.status >= 400 && answer.status < 500)]).toEqual([tenant, true]);
    }
    expect(world.requests).toEqual([]);
  });

  it("is reached by no launch", async () => {
    for (const tenant of strangers) {
      const answer = await visit(`/sign-in/launch?iss=${encodeURIComponent(base(tenant))}&launch=x`);
      expect([tenant, answer.status]).toEqual([tenant, 400]);
    }
    expect(world.requests).toEqual([]);
  });

  it.each(["..", ".", "a..b", ".a", "a.", "a/b", "a%2fb", "", "a b", "x".repeat(129)])(
    "can have no name that leads elsewhere: %j",
    (tenant) => {
      const tenants = { placeholder: "{house}", admitted: "any" as const };
      expect(isAdmitted(tenants, tenant)).toBe(false);
      expect(tenantIn(base("{house}"), tenants, base(tenant))).toBeUndefined();
    },
  );
});

describe("a tenant that is admitted", () => {
  it("has a redirect URI that is nobody else's, and an answer at another's opens nothing", async () => {
    const begun = await visit("/sign-in/to/clinic.mill-lane");
    const sentTo = new URL(begun.headers.get("location") ?? "");
    const redirectUri = `${origin}/sign-in/from/clinic.mill-lane`;
    expect(sentTo.searchParams.get("redirect_uri")).toBe(redirectUri);
    const state = sentTo.searchParams.get("state") ?? "";
    const cookie = begun.headers
      .getSetCookie()
      .map((each) => each.split(";")[0])
      .join("; ");
    const asked = world.requests.length;
    const page = await (
      await visit(`/sign-in/from/clinic.riverside?code=stolen&state=${state}`, { headers: { cookie } })
    ).text();
    expect(page).toContain("response.issuer-mismatch");
    // Neither code, verifier nor secret has left.
    expect(world.requests).toHaveLength(asked);
  });

  it("is asked nothing for an answer that belongs to no attempt", async () => {
    const page = await (await visit(`/sign-in/from/clinic.mill-lane?code=x&state=${"s".repeat(43)}`)).text();
    expect(page).toContain("response.state-altered");
    expect(world.requests).toEqual([]);
  });
});
