import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  createTestKey,
  issuer,
  metadata,
  noon,
  openFakeProvider,
  problemOf,
} from "../../../../tests/support/fake-world.js";
import { rfcPkce } from "../../../../tests/support/rfc-vectors.js";
import { createPlatform } from "../platform/index.js";
import { prepareKey, verifyJws } from "../jose/index.js";
import type { ProviderSettings } from "../provider/index.js";
import { beginSignIn, type SignInRequest } from "./begin-sign-in.js";
import { codeChallenge } from "./pkce.js";

const redirectUri = "https://ferrywell.example/sign-in/from/quayside";

describe("beginSignIn", () => {
  it("asks for a code with state, nonce and an S256 challenge of the verifier it keeps", async () => {
    const world = createFakeWorld();
    const { url, attempt } = await beginSignIn(await openFakeProvider(world), { redirectUri });
    expect(Object.fromEntries(new URL(url).searchParams)).toEqual({
      response_type: "code",
      client_id: "ferrywell",
      redirect_uri: redirectUri,
      scope: "openid",
      state: attempt.state,
      nonce: attempt.nonce,
      code_challenge: await codeChallenge(world.platform, attempt.codeVerifier),
      code_challenge_method: "S256",
    });
    expect(attempt).toMatchObject({ issuer, beganAt: noon, expiresAt: noon + 600 });
    expect(JSON.parse(JSON.stringify(attempt))).toEqual(attempt);
    expect(url).not.toContain(attempt.codeVerifier);
  });

  it("draws state, nonce and verifier anew each time, 256 bits each", async () => {
    const provider = await openFakeProvider(createFakeWorld());
    const attempts = await Promise.all(
      Array.from({ length: 20 }, () => beginSignIn(provider, { redirectUri })),
    );
    const drawn = attempts.flatMap(({ attempt }) => [attempt.state, attempt.nonce, attempt.codeVerifier]);
    expect(new Set(drawn).size).toBe(60);
    for (const text of drawn) expect(text).toMatch(/^[A-Za-z0-9_-]{43}$/);
  });

  it("asks for consent together with offline access", async () => {
    const provider = await openFakeProvider(createFakeWorld());
    const { url } = await beginSignIn(provider, { redirectUri, scope: "openid offline_access" });
    expect(new URL(url).searchParams.get("prompt")).toBe("consent");
  });

  it.each(["/sign-in/from/quayside", "http://ferrywell.example/back", `${redirectUri}#part`, "custom:/back"])(
    "refuses the redirect URI %s",
    async (refused) => {
      const provider = await openFakeProvider(createFakeWorld());
      const { code } = await problemOf(() => beginSignIn(provider, { redirectUri: refused }));
      expect(code).toBe("attempt.redirect-uri-refused");
    },
  );

  it.each<[string, unknown, string, string]>([
    ["list of scopes", { scope: ["openid"] }, "not-text", "scope: a list"],
    ["address that is an object", { redirectUri: new URL(redirectUri) }, "not-text", "redirectUri: someth"],
    ["number for a prompt", { prompt: 1 }, "not-text", "prompt: 1"],
    ["name that there is not", { max_age: 60 }, "unknown", '"max_age"'],
    ["request that is none", undefined, "no-request", "undefined"],
    ["nobody to be asked, and somebody all the same", { prompt: "none login" }, "prompt", '"none login"'],
    ["half a second", { maxAge: 0.5 }, "seconds", 'maxAge "0.5"'],
    ["less than nothing", { maxAge: -1 }, "seconds", 'maxAge "-1"'],
    ["time that is no number", { maxAge: Number.NaN }, "seconds", 'maxAge "NaN"'],
    ["API that is no URI", { resource: ["tidebook"] }, "resource", "tidebook"],
    ["API with a fragment", { resource: ["https://tidebook.example/#a"] }, "resource", "tidebook"],
    ["API that is no list", { resource: "https://tidebook.example" }, "resource", "tidebook"],
  ])("takes no %s, and says what it is", async (_, changes, because, received) => {
    const provider = await openFakeProvider(createFakeWorld());
    const request = changes === undefined ? undefined : { redirectUri, ...(changes as object) };
    const problem = await problemOf(() => beginSignIn(provider, request as never));
    expect(problem).toMatchObject({ code: "attempt.parameters-refused", because });
    expect(problem.received).toContain(received);
  });

  it("makes the challenge of the standard's example", async () => {
    expect(await codeChallenge(createPlatform(), rfcPkce.codeVerifier)).toBe(rfcPkce.codeChallenge);
  });
});

describe("beginSignIn, sending the request ahead", () => {
  const push = `${issuer}/push`;
  const requestUri = "urn:ietf:params:oauth:request_uri:abc";
  const open = async (world = createFakeWorld(), settings = {}) => {
    const required = { requirePushedAuthorizationRequests: true, ...settings };
    return { world, provider: await openFakeProvider(world, [], required) };
  };

  it("leaves the browser nothing but who asks and which request it is", async () => {
    const { world, provider } = await open();
    world.answers.set(push, Response.json({ request_uri: requestUri, expires_in: 60 }, { status: 201 }));
    const { url, attempt } = await beginSignIn(provider, { redirectUri });
    expect(url).toBe(
      `${issuer}/authorize?${new URLSearchParams({ client_id: "ferrywell", request_uri: requestUri })}`,
    );
    const { init } = world.requests.at(-1)!;
    const sent = new URLSearchParams(init.body as string);
    expect(new Headers(init.headers).get("authorization")).toMatch(/^Basic /);
    expect(sent.get("redirect_uri")).toBe(redirectUri);
    expect(sent.get("state")).toBe(attempt.state);
    expect(sent.get("code_challenge_method")).toBe("S256");
  });

  it.each<[string, Response]>([
    ["an error", Response.json({ error: "invalid_request", error_description: "why" }, { status: 400 })],
    ["status 200", Response.json({ request_uri: requestUri, expires_in: 60 })],
    ["no request_uri", Response.json({ expires_in: 60 }, { status: 201 })],
    ["a page", new Response("<h1>Hi</h1>", { status: 201 })],
  ])("sends nobody anywhere after %s", async (_, answer) => {
    const { world, provider } = await open();
    world.answers.set(push, answer);
    const { code } = await problemOf(() => beginSignIn(provider, { redirectUri }));
    expect(code).toBe("attempt.request-refused");
  });

  it("does so where the metadata requires it, and refuses to start where it cannot", async () => {
    const answer = (members: object) => {
      const world = createFakeWorld();
      world.answers.set(`${issuer}/metadata`, Response.json({ ...metadata, ...members }));
      return open(world, {
        requirePushedAuthorizationRequests: undefined,
        deviations: { metadataUrl: `${issuer}/metadata` },
      });
    };
    const required = { require_pushed_authorization_requests: true };
    expect((await answer(required)).provider.pushesRequests).toBe(true);
    expect((await answer({})).provider.pushesRequests).toBe(false);
    const without = { ...required, pushed_authorization_request_endpoint: undefined };
    expect((await problemOf(() => answer(without))).code).toBe("provider.metadata-refused");
  });
});

describe("beginSignIn, asking for more", () => {
  const ask = async (request: Partial<SignInRequest>, settings: Partial<ProviderSettings> = {}) => {
    const provider = await openFakeProvider(createFakeWorld(), [], settings);
    const { url, attempt } = await beginSignIn(provider, { redirectUri, ...request });
    return { query: new URL(url).searchParams, attempt, provider };
  };

  it("sends each parameter by its standard name, and keeps what the ID token has to say", async () => {
    const { query, attempt } = await ask({
      prompt: "login consent",
      maxAge: 0,
      acrValues: "urn:ferrywell:two urn:ferrywell:one",
      loginHint: "maren.holt@ferrywell.example",
      idTokenHint: "it-1",
      uiLocales: "cy en",
      display: "popup",
      claims: { id_token: { auth_time: { essential: true } } },
      resource: ["https://tidebook.example/a", "https://slipway.example"],
      authorizationDetails: [{ type: "berth", actions: ["reserve"] }],
    });
    expect(Object.fromEntries(query)).toMatchObject({
      prompt: "login consent",
      max_age: "0",
      acr_values: "urn:ferrywell:two urn:ferrywell:one",
      login_hint: "maren.holt@ferrywell.example",
      id_token_hint: "it-1",
      ui_locales: "cy en",
      display: "popup",
      claims: '{"id_token":{"auth_time":{"essential":true}}}',
      authorization_details: '[{"type":"berth","actions":["reserve"]}]',
    });
    expect(query.getAll("resource")).toEqual(["https://tidebook.example/a", "https://slipway.example"]);
    expect(attempt).toMatchObject({ maxAge: 0, acrValues: ["urn:ferrywell:two", "urn:ferrywell:one"] });
  });

  it("asks for consent along with offline access, unless the app asks for something else", async () => {
    const scope = "openid offline_access";
    expect((await ask({ scope })).query.get("prompt")).toBe("consent");
    expect((await ask({ scope, prompt: "none" })).query.get("prompt")).toBe("none");
  });

  it("sends no challenge where there is no code to redeem, and names the mode where it is not the usual one", async () => {
    const implicit = (await ask({}, { responseType: "id_token" })).query;
    expect(Object.fromEntries(implicit)).toMatchObject({ response_type: "id_token" });
    expect([implicit.has("code_challenge"), implicit.has("response_mode")]).toEqual([false, false]);
    const form = (await ask({}, { responseType: "code id_token", responseMode: "form_post" })).query;
    expect(form.get("response_mode")).toBe("form_post");
    expect(form.has("code_challenge")).toBe(true);
  });

  it("lets no token come back in the query", async () => {
    const work = () => ask({}, { responseType: "code token", responseMode: "query" });
    expect((await problemOf(work)).findings?.[0]?.path).toBe("responseMode");
  });

  describe("signed", () => {
    const key = createTestKey("ES256", "2026-11");
    const settings = {
      requestObjectSigningAlg: "ES256",
      clientKeys: JSON.stringify(key.privateJwk),
    } as const;

    it("puts every parameter into a request object for this provider, for five minutes", async () => {
      const { query, attempt, provider } = await ask({ maxAge: 60, claims: { userinfo: {} } }, settings);
      expect([...query.keys()].sort()).toEqual(["client_id", "request", "response_type", "scope"]);
      const { header, payload } = await verifyJws(
        provider.tools,
        query.get("request") ?? "",
        ["ES256"],
        (_, alg) => prepareKey(provider.tools, key.publicJwk, alg, "verify"),
      );
      expect(header).toEqual({ alg: "ES256", typ: "oauth-authz-req+jwt", kid: "2026-11" });
      expect(payload).toMatchObject({
        iss: "ferrywell",
        aud: issuer,
        nbf: noon,
        exp: noon + 300,
        state: attempt.state,
        redirect_uri: redirectUri,
        code_challenge_method: "S256",
        max_age: 60,
        claims: { userinfo: {} },
      });
    });

    it("can be sent ahead, signed as it is", async () => {
      const world = createFakeWorld();
      const provider = await openFakeProvider(world, [], {
        ...settings,
        requirePushedAuthorizationRequests: true,
      });
      world.answers.set(
        `${issuer}/push`,
        Response.json({ request_uri: "urn:x", expires_in: 60 }, { status: 201 }),
      );
      await beginSignIn(provider, { redirectUri });
      const sent = new URLSearchParams(world.requests.at(-1)!.init.body as string);
      expect(sent.get("request")?.split(".")).toHaveLength(3);
      expect(sent.get("client_assertion")).not.toBeNull();
      expect(sent.getAll("client_id")).toEqual(["ferrywell"]);
    });

    it("needs a key of that algorithm at the start", async () => {
      const work = () => ask({}, { ...settings, requestObjectSigningAlg: "PS256" });
      expect((await problemOf(work)).findings?.[0]?.path).toBe("requestObjectSigningAlg");
      const clientKeys = JSON.stringify({ ...key.privateJwk, alg: "PS256" });
      const ofAnother = {
        clientKeys,
        requestObjectSigningAlg: "PS256",
        clientAuthentication: "none",
      } as const;
      expect(await problemOf(() => ask({}, ofAnother))).toMatchObject({
        code: "provider.client-key-refused",
        because: "unfit",
      });
    });
  });
});
