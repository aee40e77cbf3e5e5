import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
  metadata,
  noon,
  openFakeProvider,
  problemOf,
} from "../../../../tests/support/fake-world.js";
import { rfcPkce } from "../../../../tests/support/rfc-vectors.js";
import { createPlatform } from "../platform/index.js";
import { beginSignIn } from "./begin-sign-in.js";
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
