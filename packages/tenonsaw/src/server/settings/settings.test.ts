import { readFileSync } from "node:fs";
import { describe, expect, it } from "vitest";
import { problemOf } from "../../../../../tests/support/fake-world.js";
import { createMemoryStore } from "../../stores/memory.js";
import { createSignIn } from "../create-sign-in.js";
import { chooseEnvironment } from "./choose-environment.js";

const quayside = { issuer: "https://id.quayside.example", clientId: "ferrywell" };
const archive = {
  protocol: "oauth1",
  issuer: "https://archive.example",
  clientId: "ferrywell",
  clientSecret: { env: "ARCHIVE" },
  temporaryCredentialsEndpoint: "https://archive.example/initiate",
  authorizationEndpoint: "https://archive.example/authorize",
  tokenEndpoint: "https://archive.example/token",
};
const good = { origin: "https://ferrywell.example", keys: { env: "KEYS" }, providers: { quayside } };

type Members = Record<string, unknown>;
interface Described {
  readonly type?: string;
  readonly $ref?: string;
  readonly anyOf?: readonly Described[];
  readonly properties?: Readonly<Record<string, Described>>;
  readonly additionalProperties?: Described | false;
  readonly items?: Described;
}
const schema = JSON.parse(
  readFileSync(new URL("../../../settings.schema.json", import.meta.url), "utf8"),
) as Described;

/** Where a setting can stand, by the schema that editors know. */
type Place = readonly [path: readonly string[], part: Described];
function placesIn(part: Described, path: readonly string[] = []): readonly Place[] {
  if (part.$ref !== undefined) {
    const [, ...names] = part.$ref.split("/");
    return placesIn(
      names.reduce((whole, name) => (whole as Members)[name] as Described, schema),
      path,
    );
  }
  const { anyOf = [], properties = {}, additionalProperties, items } = part;
  const { environments: _all, $schema: _editors, ...members } = properties;
  return [
    ...anyOf.flatMap((each) => placesIn(each, path)),
    ...[
      ...Object.entries(members),
      ...(additionalProperties ? ([["quayside", additionalProperties]] as const) : []),
      ...(items ? ([["0", items]] as const) : []),
    ].flatMap(([name, member]) => [[[...path, name], member] as const, ...placesIn(member, [...path, name])]),
  ];
}

/** What is said of settings with this in one place, and as little as can be around it. */
async function findingsWith(path: readonly string[], value: unknown) {
  const changed = structuredClone(good) as Members;
  let at = changed;
  for (const name of path.slice(0, -1)) {
    if (typeof at[name] !== "object") at[name] = {};
    at = at[name] as Members;
  }
  at[path.at(-1)!] = value;
  const findings = await problemOf(() => chooseEnvironment(changed)).then(
    (problem) => problem.findings,
    () => [],
  );
  return findings ?? [];
}

describe("sign-in settings", () => {
  it("need an origin, keys and a provider; the rest has defaults", () => {
    expect(chooseEnvironment(good).settings).toMatchObject({
      basePath: "/sign-in",
      apis: {},
      pages: { signedOut: "/" },
      sessionLifetimeSeconds: 604_800,
      development: false,
    });
  });

  it.each<[string, object, string, RegExp]>([
    ["a misspelt key", { provders: {} }, "provders", /did you mean "providers"/],
    [
      "a misspelt key further down",
      { providers: { quayside: { ...quayside, scpoe: "openid" } } },
      "providers.quayside.scpoe",
      /"scope"/,
    ],
    [
      "an origin with more than that, and in another spelling",
      { origin: "https://Fährhaus.example:443/app" },
      "origin",
      /browsers spell it, https:\/\/xn--fhrhaus-5wa.example, and is "https:\/\/Fährhaus/,
    ],
    ["an http origin", { origin: "http://ferrywell.example" }, "origin", /https/],
    ["a space too many", { origin: "http://localhost:5173 " }, "origin", /with white space at an end$/],
    ["a placeholder", { origin: "${ORIGIN}" }, "origin", /is a placeholder that nothing has filled/],
    ["no provider", { providers: {} }, "providers", /at least one/],
    [
      "a provider name that is no route",
      { providers: { "Quay side": quayside } },
      "providers.Quay side",
      /a-z/,
    ],
    [
      "an API of an unknown provider",
      { apis: { tidebook: { provider: "harbour", origin: "https://tidebook.example" } } },
      "apis.tidebook.provider",
      /one of the providers: quayside/,
    ],
    [
      "a host's API of an unknown provider",
      { apis: { record: { provider: "clinc" } } },
      "apis.record.provider",
      /one of the providers: quayside/,
    ],
    [
      "a misspelt member of a profile",
      { providers: { quayside: { ...quayside, profile: { nmae: "/name" } } } },
      "providers.quayside.profile.nmae",
      /did you mean "name"/,
    ],
    [
      "an odd member of a profile",
      { providers: { quayside: { ...quayside, profile: { name: 7 } } } },
      "providers.quayside.profile.name",
      /^must be a JSON Pointer, or a list of them, and is a number$/,
    ],
    [
      "algorithms by hand in another spelling",
      {
        providers: { quayside: { ...quayside, metadata: { idTokenSigningAlgValuesSupported: ["es-256"] } } },
      },
      "providers.quayside.metadata.idTokenSigningAlgValuesSupported.0",
      /^must be spelt ES256, as the standards do$/,
    ],
    [
      "no ID tokens and no word of it",
      { providers: { quayside: { ...quayside, scope: "read" } } },
      "providers.quayside.scope",
      /contain openid, .*or deviations.noIdToken/,
    ],
    [
      "a secret that is to be sent and is not there",
      { providers: { quayside: { ...quayside, clientAuthentication: "client_secret_post" } } },
      "providers.quayside.clientSecret",
      /^is missing, and by clientAuthentication/,
    ],
    [
      "a key that is to sign and is not there",
      { providers: { quayside: { ...quayside, clientAuthentication: "private_key_jwt" } } },
      "providers.quayside.clientKeys",
      /^is missing, and private_key_jwt/,
    ],
    [
      "a provider that says nothing, by hand or otherwise",
      {
        providers: {
          quayside: {
            ...quayside,
            discovery: "none",
            metadata: { tokenEndpoint: archive.tokenEndpoint, jwksUri: archive.issuer },
          },
        },
      },
      "providers.quayside.metadata.authorizationEndpoint",
      /^is missing, and nothing is discovered/,
    ],
    [
      "an API origin with a path",
      { apis: { t: { provider: "quayside", origin: "https://tidebook.example/v1" } } },
      "apis.t.origin",
      /spell it, https:\/\/tidebook.example, and is/,
    ],
    [
      "connections of an unknown provider",
      { connections: { harbour: {} } },
      "connections.harbour",
      /one of the providers: quayside/,
    ],
    [
      "an account by a parameter that is not kept",
      { connections: { quayside: { account: { parameter: "company" } } } },
      "connections.quayside.account.parameter",
      /keepCallbackParameters of quayside/,
    ],
    [
      "an account that no API of its provider can confirm",
      { connections: { quayside: { account: { confirmedBy: { api: "books", path: "/company" } } } } },
      "connections.quayside.account.confirmedBy.api",
      /an API of quayside/,
    ],
    [
      "a rule of the relay that is none",
      { apis: { t: { provider: "quayside", origin: "https://tidebook.example", relay: ["tides"] } } },
      "apis.t.relay.0",
      /such as \/tides/,
    ],
    ["a page at another host", { pages: { failed: "//evil.example" } }, "pages.failed", /path of this app/],
    [
      "a base path that ends in a slash",
      { basePath: "/auth/" },
      "basePath",
      /no slash at its end, and is "\/auth\/"/,
    ],
    ...(["connections.archive.scope", "apis.boxes.scope", "apis.boxes.clientScope"] as const).map(
      (path): [string, object, string, RegExp] => {
        const [place = "", name = "", member = ""] = path.split(".");
        const boxes = { provider: "archive", origin: archive.issuer };
        const apis = { boxes };
        const given = { [name]: { ...(place === "apis" && boxes), [member]: "read" } };
        return [
          `${path}, which OAuth 1.0a has not`,
          { providers: { archive }, apis, [place]: given },
          path,
          /left out/,
        ];
      },
    ),
    ["a chooser that leads to itself", { pages: { chooser: "/sign-in" } }, "pages.chooser", /another page/],
    [
      "a page that is a route",
      { pages: { failed: "/sign-in/to/quayside?x" } },
      "pages.failed",
      /^must be a page of the app's own, and is below basePath, \/sign-in$/,
    ],
    [
      "an idle limit beyond the end",
      { sessionLifetimeSeconds: 100, sessionIdleSeconds: 101 },
      "sessionIdleSeconds",
      /^must be at most sessionLifetimeSeconds, which is 100, and is 101$/,
    ],
    [
      "the same for a kind",
      { sessionKinds: { shared: { lifetimeSeconds: 60, idleSeconds: 600 } } },
      "sessionKinds.shared.idleSeconds",
      /^must be at most lifetimeSeconds, which is 60, and is 600$/,
    ],
    ["a language by its name", { texts: { german: {} } }, "texts.german", /such as de or pt-BR$/],
    [
      "a placeholder that there is not",
      { texts: { de: { signInWith: "Mit {name}" } } },
      "texts.de.signInWith",
      /no other placeholder than \{provider\}/,
    ],
    ["proxies of whom nothing is said", { proxies: { header: "forwarded" } }, "proxies", /, one of the two$/],
    ["a base path that leads up", { basePath: "/auth/../x" }, "basePath", /such as \/sign-in/],
    [
      "an origin without its scheme",
      { origin: "localhost:5173" },
      "origin",
      /https origin .* and is "localhost:5173"/,
    ],
    [
      "providers in a list",
      { providers: [{ ...quayside, nam: "quayside" }] },
      "providers",
      /an object, with names, and is a list/,
    ],
    ["pages in a list", { pages: [] }, "pages", /an object, with names, and is a list/],
    [
      "milliseconds in a lifetime",
      { sessionLifetimeSeconds: 604_800_000 },
      "sessionLifetimeSeconds",
      /400 days.*milliseconds.*is 604800000$/,
    ],
    [
      "text for a number",
      { sessionLifetimeSeconds: "ten" },
      "sessionLifetimeSeconds",
      /^must be a number, and is a text$/,
    ],
    [
      "scopes in a list",
      { providers: { quayside: { ...quayside, scope: ["openid"] } } },
      "providers.quayside.scope",
      /^must be a text, and is a list$/,
    ],
    [
      "a number for a secret, and show none of it",
      { providers: { quayside: { ...quayside, clientSecret: 20261127 } } },
      "providers.quayside.clientSecret",
      /^must be a non-empty text, .* and is a number$/,
    ],
    [
      "a secret in the place of an address, and show none of it",
      { providers: { quayside: { ...quayside, issuer: "hush-hush" } } },
      "providers.quayside.issuer",
      /^(?!.*hush)must be/,
    ],
    [
      "what may be a secret in the place of a path, and show none of it",
      { pages: { failed: "//Hush/hush" } },
      "pages.failed",
      /^(?!.*ush)must be/,
    ],
    [
      "a name that every object has",
      JSON.parse('{ "pages": { "__proto__": { "failed": "/x" } } }') as object,
      "pages.__proto__",
      /^unknown setting$/,
    ],
    [
      "more than a variable's name",
      { providers: { quayside: { ...quayside, clientSecret: { env: "process.env.SECRET" } } } },
      "providers.quayside.clientSecret.env",
      /name of a variable alone/,
    ],
    [
      "a whole URL for the sample of an API",
      { apis: { t: { provider: "quayside", origin: "https://t.example", sample: "https://t.example/x" } } },
      "apis.t.sample",
      /a path at the API, .* and is "https:\/\/t.example\/x"/,
    ],
    [
      "a redirect URI, which is none",
      { providers: { quayside: { ...quayside, redirect_uri: "https://x.example/y" } } },
      "providers.quayside.redirect_uri",
      /is made of `origin` and the provider's name/,
    ],
    [
      "a setting in another's place",
      { providers: { quayside: { ...quayside, relay: ["/x"] } } },
      "providers.quayside.relay",
      /^unknown setting here: it belongs to apis\.<name>\.relay$/,
    ],
    ["no lifetime", { sessionLifetimeSeconds: 0 }, "sessionLifetimeSeconds", /at least 1/],
    [
      "a protocol that there is not",
      { providers: { quayside: { ...quayside, protocol: "oauth3" } } },
      "providers.quayside.protocol",
      /^must be "oauth1" or "oauth2"$/,
    ],
    [
      "what only another protocol has",
      { providers: { quayside: { ...quayside, realm: "boxes" } } },
      "providers.quayside.realm",
      /belongs to a provider with `protocol: "oauth1"`$/,
    ],
  ])("report %s", async (_, change, path, message) => {
    const { code, findings } = await problemOf(() => chooseEnvironment({ ...good, ...change }));
    expect(code).toBe("provider.settings-refused");
    expect(findings).toEqual([{ path, message: expect.stringMatching(message) as string }]);
  });

  it("say of each what it has to be, whatever stands there", async () => {
    const paths = placesIn(schema);
    expect(paths.length).toBeGreaterThan(200);
    for (const [path] of paths) {
      for (const odd of [null, "", 0, 1.5, Number.NaN, false, true, [], [7], {}, { a: 1 }, () => 1]) {
        for (const { message } of await findingsWith(path, odd))
          expect(message).not.toMatch(
            /another kind|undefined|\[object|oauth1Providers|[|<>]=|(a \w+), and is \1$/,
          );
      }
    }
  });

  // Words for people, values of CSS, where a secret is, names of somebody's own that may be called so, and what is told once all else is well.
  const free =
    /^(texts|theme)\.|\.(title|scopeWords\.\w+)$|(^keys|clientSecret|clientKeys)(\.\w+)?$|^(cookiePrefix|environment)$|\.(admitted\.0|keepCallbackParameters\.0|confirmedBy\.api)$/;
  it.each([" odd", "odd ", "'odd'", "${ODD}", "%ODD%", "<odd>", "your-odd", "TODO"])(
    "take no text that came along with something or in place of something: %s",
    async (odd) => {
      const texts = placesIn(schema).filter(
        ([path, { type }]) => type === "string" && !free.test(path.join(".")),
      );
      expect(texts.length).toBeGreaterThan(80);
      const passed = [];
      for (const [path] of texts) {
        const named = (await findingsWith(path, odd)).some((each) => path.join(".").startsWith(each.path));
        if (!named) passed.push(path.join("."));
      }
      expect(passed).toEqual([]);
    },
  );

  it("say of every name that there is not where it stands, also where something else than an object may be", async () => {
    const objects = placesIn(schema).filter(
      ([path, { properties }]) => properties !== undefined && !path.includes("keys"),
    );
    expect(objects.length).toBeGreaterThan(15);
    for (const [path] of objects) {
      const at = [...path, "no_such"].join(".");
      expect((await findingsWith([...path, "no_such"], 1)).map((each) => each.path)).toContain(at);
    }
  });

  it.each<[string, object, string]>([
    [
      "a missing secret",
      {
        providers: { quayside: { ...quayside, clientSecret: { env: "ABSENT_SECRET" } } },
        keys: "A".repeat(43),
      },
      "provider.secret-missing",
    ],
    ["missing keys", { keys: { env: "ABSENT_KEYS" } }, "provider.secret-missing"],
    ["a key that is too short", { keys: "c2hvcnQ" }, "session.keys-refused"],
    ["a key that is no base64url", { keys: `${"A".repeat(42)}=` }, "session.keys-refused"],
    [
      "what is registered and takes a key that there is not",
      { keys: "A".repeat(43), providers: { quayside: { ...quayside, requestObjectSigningAlg: "ES256" } } },
      "provider.settings-refused",
    ],
    [
      "what a security profile does not let be",
      { keys: "A".repeat(43), providers: { quayside: { ...quayside, securityProfile: "fapi2" } } },
      "provider.settings-refused",
    ],
  ])("stop the start for %s, and show no secret", async (_, change, code) => {
    const problem = await problemOf(() => createSignIn({ ...good, ...change, store: createMemoryStore() }));
    expect(problem.code).toBe(code);
    expect(JSON.stringify(problem)).not.toMatch(/c2hvcnQ|AAAA/);
  });
});
