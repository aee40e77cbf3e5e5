import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
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
