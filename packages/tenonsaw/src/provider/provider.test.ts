import { describe, expect, it } from "vitest";
import {
  clientId,
  createFakeWorld,
  issuer,
  metadata,
  openFakeProvider,
  problemOf,
  type FakeAnswer,
} from "../../../../tests/support/fake-world.js";
import { openProvider } from "./open-provider.js";

const wellKnown = `${issuer}/.well-known/openid-configuration`;

describe("openProvider", () => {
  it("resolves settings and metadata to a provider that is ready", async () => {
    const provider = await openFakeProvider(createFakeWorld());
    expect(provider).toMatchObject({
      issuer,
      clientId,
      scope: "openid",
      clientAuthentication: "client_secret_basic",
      signatureAlgorithms: ["RS256", "ES256"],
      timeoutSeconds: 10,
    });
    expect(JSON.stringify(provider.clientSecret)).toBe('"[hidden]"');
  });

  it("leaves out a slash at the end of the issuer before it adds the path, and only there", async () => {
    const world = createFakeWorld();
    world.answers.set(wellKnown, Response.json({ ...metadata, issuer: `${issuer}/` }));
    const provider = await openProvider({ issuer: `${issuer}/`, clientId }, { platform: world.platform });
    expect(provider.issuer).toBe(`${issuer}/`);
  });

  it.each([
    [["client_secret_post"], "client_secret_post"],
    [["client_secret_post", "client_secret_basic"], "client_secret_basic"],
  ])("of the methods %j uses %s", async (token_endpoint_auth_methods_supported, expected) => {
    const world = createFakeWorld();
    world.answers.set(wellKnown, Response.json({ ...metadata, token_endpoint_auth_methods_supported }));
    const provider = await openProvider(
      { issuer, clientId, clientSecret: "s" },
      { platform: world.platform },
    );
    expect(provider.clientAuthentication).toBe(expected);
  });

  it.each<[string, object, object, string]>([
    [
      "a way of proving the client that it does not list",
      { token_endpoint_auth_methods_supported: ["private_key_jwt"] },
      { clientSecret: "s" },
      "provider.metadata-refused",
    ],
    ["an issuer that is an object", { issuer: { issuer } }, {}, "provider.metadata-refused"],
  ])("refuses metadata with %s", async (_, members, settings, code) => {
    const world = createFakeWorld();
    world.answers.set(wellKnown, Response.json({ ...metadata, ...members }));
    const work = () => openProvider({ issuer, clientId, ...settings }, { platform: world.platform });
    expect((await problemOf(work)).code).toBe(code);
  });

  it.each([
    "http://localhost:9",
    "https://app.localhost.",
    "https://localhost.",
    "https://127.1",
    "https://0",
    "https://0.0.0.0",
    "https://[::]",
    "https://[::1]",
    "https://[::ffff:127.0.0.1]",
    "https://[::127.0.0.1]",
  ])("refuses endpoints on this machine, by any of its names, of an issuer elsewhere: %s", async (origin) => {
    const world = createFakeWorld();
    for (const name of ["userinfo_endpoint", "token_endpoint", "jwks_uri"]) {
      world.answers.set(wellKnown, Response.json({ ...metadata, [name]: `${origin}/x` }));
      const work = () => openProvider({ issuer, clientId }, { platform: world.platform });
      expect(await problemOf(work)).toMatchObject({
        code: "provider.metadata-refused",
        findings: [{ path: name, message: "is on this machine, and the issuer is not" }],
      });
    }
  });

  it("says that the provider is busy, and for how long, where it does not answer with its metadata", async () => {
    const world = createFakeWorld();
    world.answers.set(wellKnown, new Response("", { status: 503, headers: { "retry-after": "7" } }));
    const work = () => openProvider({ issuer, clientId }, { platform: world.platform });
    expect(await problemOf(work)).toMatchObject({ code: "provider.unavailable", retryAfterSeconds: 7 });
  });

  it.each<[string, object, readonly string[]]>([
    ["a missing issuer and a misspelt key", { clientID: "x" }, ["issuer", "clientId", "clientID"]],
    ["an http issuer that is not loopback", { issuer: "http://id.quayside.example", clientId }, ["issuer"]],
    ["a placeholder in the issuer", { issuer: `${issuer}/{tenant}`, clientId }, ["issuer"]],
    ["an issuer with a query", { issuer: `${issuer}?tenant=1`, clientId }, ["issuer"]],
    [
      "an empty client ID and an empty secret",
      { issuer, clientId: "", clientSecret: "" },
      ["clientId", "clientSecret"],
    ],
    ["a scope without openid", { issuer, clientId, scope: "profile" }, ["scope"]],
    ["a scope with two spaces", { issuer, clientId, scope: "openid  profile" }, ["scope"]],
    [
      "an unknown authentication",
      { issuer, clientId, clientAuthentication: "magic" },
      ["clientAuthentication"],
    ],
    [
      "authentication without a secret",
      { issuer, clientId, clientAuthentication: "client_secret_post" },
      ["clientSecret"],
    ],
    ["no deadline", { issuer, clientId, timeoutSeconds: 0 }, ["timeoutSeconds"]],
  ])("reports %s, everything at once", async (_, settings, paths) => {
    const problem = await problemOf(() =>
      openProvider(settings as never, { platform: createFakeWorld().platform }),
    );
    expect(problem.code).toBe("provider.settings-refused");
    expect(problem.findings?.map(({ path }) => path).sort()).toEqual([...paths].sort());
  });

  it("suggests the setting that was meant, and repeats no value", async () => {
    const settings = { issuer, clientId, clientSecrte: "hush-hush" };
    const problem = await problemOf(() => openProvider(settings));
    expect(problem.findings).toEqual([
      { path: "clientSecrte", message: 'unknown setting, did you mean "clientSecret"?' },
    ]);
    expect(JSON.stringify(problem)).not.toContain("hush");
  });

  it("reads the secret from the environment, and says which variable is not set", async () => {
    const world = createFakeWorld({ environment: (name) => ({ GOOD: "s", EMPTY: "" })[name] });
    await openFakeProvider(world, [], { clientSecret: { env: "GOOD" } });
    for (const env of ["EMPTY", "ABSENT"]) {
      const problem = await problemOf(() => openFakeProvider(world, [], { clientSecret: { env } }));
      expect(problem.code).toBe("provider.secret-missing");
      expect(problem.received).toContain(env);
    }
  });

  it.each<[string, FakeAnswer, string]>([
    ["nothing at the address", new Response("", { status: 404 }), "provider.metadata-not-found"],
    [
      "a web page",
      new Response("<!doctype html>", { headers: { "content-type": "text/html" } }),
      "platform.not-json",
    ],
    [
      "another issuer",
      Response.json({ ...metadata, issuer: "https://evil.example" }),
      "provider.issuer-mismatch",
    ],
    [
      "the issuer with a slash more",
      Response.json({ ...metadata, issuer: `${issuer}/` }),
      "provider.issuer-mismatch",
    ],
    [
      "the issuer in capitals",
      Response.json({ ...metadata, issuer: issuer.toUpperCase() }),
      "provider.issuer-mismatch",
    ],
    [
      "no token endpoint",
      Response.json({ ...metadata, token_endpoint: undefined }),
      "provider.metadata-refused",
    ],
    [
      "an insecure key set",
      Response.json({ ...metadata, jwks_uri: "http://id.quayside.example" }),
      "provider.metadata-refused",
    ],
    [
      "no common algorithm",
      Response.json({ ...metadata, id_token_signing_alg_values_supported: ["none", "HS256"] }),
      "provider.metadata-refused",
    ],
    ["a member twice", new Response('{"issuer":"a","issuer":"b"}'), "jose.duplicate-member"],
  ])("refuses metadata with %s", async (_, answer, code) => {
    const world = createFakeWorld();
    world.answers.set(wellKnown, answer);
    expect(
      (await problemOf(() => openProvider({ issuer, clientId }, { platform: world.platform }))).code,
    ).toBe(code);
  });
});
