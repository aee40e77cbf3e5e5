import { beforeEach, describe, expect, it } from "vitest";
import {
  clientId,
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  openFakeProvider,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import type { JsonObject } from "../jose/index.js";
import type { Provider } from "../provider/index.js";
import { readForeignClaims } from "./foreign-claims.js";

const registry = "https://registry.example";
const [registryKey, strangerKey] = [createTestKey("ES256", "registry"), createTestKey("ES256", "registry")];

let world: FakeWorld;
let provider: Provider;
beforeEach(async () => {
  world = createFakeWorld();
  provider = await openFakeProvider(world, [createTestKey()], { trustedClaimsIssuers: [registry] });
  world.answers.set(
    `${registry}/.well-known/openid-configuration`,
    Response.json({ issuer: registry, jwks_uri: `${registry}/keys` }),
  );
  world.answers.set(`${registry}/keys`, Response.json({ keys: [registryKey.publicJwk] }));
  world.requests.length = 0;
});

const licence = { iss: registry, licence: "coxswain", sub: "r-1" };
const own = { sub: "qs-10231", name: "Maren Holt" };
const withSource = (source: unknown, names: JsonObject = { licence: "registry" }) => ({
  ...own,
  _claim_names: names,
  _claim_sources: { registry: source },
});
const problems = () =>
  world.events.flatMap((event) =>
    event.kind === "note" && event.detail["problem"] !== undefined ? [event.detail["problem"]] : [],
  );

describe("claims that others vouch for", () => {
  it("are read when a trusted issuer signed them, and when they are fetched from it", async () => {
    const token = await registryKey.sign(licence);
    expect(await readForeignClaims(provider, withSource({ JWT: token }))).toEqual({
      ...own,
      licence: "coxswain",
    });
    world.answers.set(`${registry}/claims`, (_, { headers }) =>
      new Headers(headers).get("authorization") === "Bearer for-claims"
        ? new Response(`${token}\n`)
        : new Response("", { status: 401 }),
    );
    const distributed = { endpoint: `${registry}/claims`, access_token: "for-claims" };
    expect(await readForeignClaims(provider, withSource(distributed))).toEqual({
      ...own,
      licence: "coxswain",
    });
    expect(world.requests.filter(({ url }) => url.endsWith("/keys"))).toHaveLength(1);
    expect(JSON.stringify(world.events)).not.toContain("for-claims");
  });

  it("leave what the provider says itself as it is, and bring nothing that was not named", async () => {
    const token = await registryKey.sign({ ...licence, name: "Somebody Else", admin: true, acr: "high" });
    const names = {
      licence: "registry",
      name: "registry",
      sub: "registry",
      iss: "registry",
      acr: "registry",
    };
    expect(await readForeignClaims(provider, withSource({ JWT: token }, names))).toEqual({
      ...own,
      licence: "coxswain",
    });
  });

  it.each<[string, () => Promise<unknown>, string]>([
    [
      "signed by a stranger",
      async () => ({ JWT: await strangerKey.sign(licence) }),
      "jose.signature-mismatch",
    ],
    [
      "of an issuer that is not trusted",
      async () => ({ JWT: await registryKey.sign({ ...licence, iss: issuer }) }),
      "identity.claims-issuer-untrusted",
    ],
    [
      "of no issuer",
      async () => ({ JWT: await registryKey.sign({ licence: "x" }) }),
      "identity.claims-issuer-untrusted",
    ],
    [
      "for another app",
      async () => ({ JWT: await registryKey.sign({ ...licence, aud: "another" }) }),
      "identity.audience-mismatch",
    ],
    [
      "expired",
      async () => ({ JWT: await registryKey.sign({ ...licence, exp: noon - 61 }) }),
      "identity.expired",
    ],
    [
      "with an expiry in words",
      async () => ({ JWT: await registryKey.sign({ ...licence, exp: "soon" }) }),
      "identity.expired",
    ],
    [
      "not valid yet",
      async () => ({ JWT: await registryKey.sign({ ...licence, nbf: noon + 61 }) }),
      "identity.not-yet-valid",
    ],
    ["that are no token", async () => ({ JWT: "nonsense" }), "jose.not-compact"],
    [
      "unsigned",
      async () => ({ JWT: "eyJhbGciOiJub25lIn0.eyJpc3MiOiJodHRwczovL3JlZ2lzdHJ5LmV4YW1wbGUifQ." }),
      "jose.algorithm-refused",
    ],
    [
      "at an address of somebody else",
      async () => ({ endpoint: "https://evil.example/claims" }),
      "identity.claims-issuer-untrusted",
    ],
    [
      "at an address inside",
      async () => ({ endpoint: "http://169.254.169.254/latest" }),
      "identity.claims-issuer-untrusted",
    ],
    ["at no address", async () => ({ endpoint: 7 }), "identity.claims-issuer-untrusted"],
    ["at what looks like none", async () => ({ endpoint: "registry" }), "identity.claims-issuer-untrusted"],
    ["that cannot be fetched", async () => ({ endpoint: `${registry}/claims` }), "platform.unreachable"],
    ["without a source", async () => undefined, "identity.claims-issuer-untrusted"],
  ])("are left out and traced when they are %s", async (_, source, problem) => {
    expect(await readForeignClaims(provider, withSource(await source()))).toEqual(own);
    expect(problems()).toEqual([problem]);
  });

  it("are read for this app among others, within the tolerance of the clocks", async () => {
    const token = await registryKey.sign({
      ...licence,
      aud: ["another", clientId],
      exp: noon - 59,
      nbf: noon + 59,
    });
    expect(await readForeignClaims(provider, withSource({ JWT: token }))).toHaveProperty(
      "licence",
      "coxswain",
    );
  });

  it("are left out where the issuer's own metadata names another", async () => {
    world.answers.set(
      `${registry}/.well-known/openid-configuration`,
      Response.json({ issuer: `${registry}/`, jwks_uri: `${registry}/keys` }),
    );
    expect(await readForeignClaims(provider, withSource({ JWT: await registryKey.sign(licence) }))).toEqual(
      own,
    );
    expect(problems()).toEqual(["provider.issuer-mismatch"]);
  });

  it.each<[unknown, unknown]>([
    [undefined, {}],
    ["registry", []],
    [{ licence: { a: 1 } }, { registry: {} }],
    [{ __proto__: "registry", constructor: "registry" }, null],
  ])("end in nothing when their form is odd: %j %j", async (names, sources) => {
    const odd = JSON.parse(
      JSON.stringify({ ...own, _claim_names: names, _claim_sources: sources }),
    ) as JsonObject;
    expect(await readForeignClaims(provider, odd)).toEqual(own);
    expect(({} as Record<string, unknown>)["registry"]).toBeUndefined();
  });
});
