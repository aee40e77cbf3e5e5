import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  openFakeProvider,
  problemOf,
  type FakeAnswer,
} from "../../../../tests/support/fake-world.js";
import { finishDeviceSignIn } from "../identity/index.js";
import { createPlatform } from "../platform/index.js";
import { awaitDeviceGrant, requestDeviceCode } from "./index.js";

const begun = {
  device_code: "d3vice",
  user_code: "BCDF-GHJK",
  verification_uri: `${issuer}/device`,
  expires_in: 60,
  interval: 5,
};
const tokens = { access_token: "at-1", token_type: "Bearer" };
const no = (error: string) => Response.json({ error }, { status: 400 });

async function setUp(first: FakeAnswer, ...then: readonly FakeAnswer[]) {
  const world = createFakeWorld();
  const provider = await openFakeProvider(world);
  world.answers.set(`${issuer}/device-authorization`, first);
  const asked: number[] = [];
  world.answers.set(`${issuer}/token`, (url, init) => {
    asked.push(world.now - noon);
    const answer = then[Math.min(asked.length, then.length) - 1];
    if (answer instanceof Error) throw answer;
    return typeof answer === "function" ? answer(url, init) : answer!.clone();
  });
  return { world, provider, asked };
}

describe("requestDeviceCode", () => {
  it("returns what the person needs, and where the answer will be", async () => {
    const { world, provider } = await setUp(
      Response.json({ ...begun, verification_uri_complete: `${issuer}/d?c=B` }),
    );
    expect(await requestDeviceCode(provider, "openid tides.read")).toEqual({
      deviceCode: "d3vice",
      userCode: "BCDF-GHJK",
      verificationUri: `${issuer}/device`,
      verificationUriComplete: `${issuer}/d?c=B`,
      scope: "openid tides.read",
      expiresAt: noon + 60,
      intervalSeconds: 5,
    });
    const { body } = world.requests.at(-1)!.init;
    expect(new URLSearchParams(body as string).get("scope")).toBe("openid tides.read");
  });

  it.each<[string, FakeAnswer]>([
    ["an error", no("unauthorized_client")],
    ["no user code", Response.json({ ...begun, user_code: undefined })],
    [
      "a user code with a line break, which would draw over a terminal",
      Response.json({ ...begun, user_code: "A\n\u001b[2J" }),
    ],
    [
      "an address that is not https",
      Response.json({ ...begun, verification_uri: "http://id.quayside.example" }),
    ],
    ["a script as address", Response.json({ ...begun, verification_uri: "javascript:alert(1)" })],
    ["a page", new Response("<h1>Hi</h1>")],
  ])("refuses %s", async (_, answer) => {
    const { provider } = await setUp(answer);
    expect((await problemOf(() => requestDeviceCode(provider))).code).toBe("grant.device-refused");
  });

  it("says so where it is not offered", async () => {
    const { provider } = await setUp(Response.json(begun));
    const { device_authorization_endpoint: _none, ...metadata } = provider.metadata;
    const { code } = await problemOf(() => requestDeviceCode({ ...provider, metadata }));
    expect(code).toBe("grant.device-not-offered");
  });
});

describe("awaitDeviceGrant", () => {
  it("asks at the interval until somebody has decided", async () => {
    const pending = no("authorization_pending");
    const { provider, asked } = await setUp(Response.json(begun), pending, pending, Response.json(tokens));
    const grant = await awaitDeviceGrant(provider, await requestDeviceCode(provider));
    expect(grant?.accessToken).toBe("at-1");
    expect(asked).toEqual([5, 10, 15]);
  });

  it("asks less often when told to, and when nobody answers", async () => {
    const { provider, asked } = await setUp(
      Response.json(begun),
      no("slow_down"),
      new Response("", { status: 503 }),
      Response.json(tokens),
    );
    await awaitDeviceGrant(provider, await requestDeviceCode(provider));
    expect(asked).toEqual([5, 15, 35]);
  });

  it.each([
    ["asks no more than once a second, though it may at once", 0, [1, 2, 3]],
    ["waits no longer than the code is good, however long it is told to", 1e12, [60]],
  ])("%s", async (_, interval, expected) => {
    const pending = no("authorization_pending");
    const { provider, asked } = await setUp(
      Response.json({ ...begun, interval }),
      pending,
      pending,
      Response.json(tokens),
    );
    const waits: number[] = [];
    const { platform } = provider.tools;
    const wait = (seconds: number) => {
      waits.push(seconds);
      return platform.wait(seconds);
    };
    const tools = { ...provider.tools, platform: { ...platform, wait } };
    const device = await requestDeviceCode(provider);
    await awaitDeviceGrant({ ...provider, tools }, device).catch(() => undefined);
    expect(interval === 0 ? asked : waits).toEqual(expected);
  });

  it("waits beyond what a timer can count, and no less", async () => {
    const ending = new AbortController();
    const began = performance.now();
    setTimeout(() => ending.abort(), 50);
    await createPlatform().wait(1e12, ending.signal);
    expect(performance.now() - began).toBeGreaterThan(40);
  });

  it("returns nothing when the person says no", async () => {
    const { provider } = await setUp(Response.json(begun), no("access_denied"));
    expect(await awaitDeviceGrant(provider, await requestDeviceCode(provider))).toBeUndefined();
  });

  it.each<[string, FakeAnswer]>([
    ["the provider says so", no("expired_token")],
    ["the code is not known any more", no("invalid_grant")],
    ["its time is over", no("authorization_pending")],
  ])("ends when %s", async (_, answer) => {
    const { provider, asked } = await setUp(Response.json(begun), answer);
    const work = async () => awaitDeviceGrant(provider, await requestDeviceCode(provider));
    expect((await problemOf(work)).code).toBe("grant.device-expired");
    expect(asked.length).toBeLessThan(12);
  });

  it("throws what is neither waiting nor weather, and ends at a signal", async () => {
    const { provider } = await setUp(Response.json(begun), no("invalid_client"));
    const device = await requestDeviceCode(provider);
    expect((await problemOf(() => awaitDeviceGrant(provider, device))).code).toBe("grant.client-refused");
    const ended = await problemOf(() => awaitDeviceGrant(provider, device, AbortSignal.abort()));
    expect(ended.code).toBe("grant.device-ended");
  });
});

describe("finishDeviceSignIn", () => {
  it("validates the ID token, which has no nonce to carry here", async () => {
    const key = createTestKey();
    const world = createFakeWorld();
    const provider = await openFakeProvider(world, [key]);
    const claims = { iss: issuer, sub: "qs-10231", aud: "ferrywell", iat: noon, exp: noon + 600 };
    world.answers.set(`${issuer}/device-authorization`, Response.json(begun));
    world.answers.set(`${issuer}/userinfo`, Response.json({ sub: "qs-10231" }));
    const answerWith = async (changes: object) => {
      const id_token = await key.sign({ ...claims, ...changes });
      world.answers.set(`${issuer}/token`, Response.json({ ...tokens, id_token }));
      return finishDeviceSignIn(provider, await requestDeviceCode(provider));
    };
    expect(await answerWith({})).toMatchObject({ kind: "granted", identity: { subject: "qs-10231" } });
    expect(await answerWith({ aud: "another" })).toMatchObject({
      kind: "failed",
      problem: { code: "identity.audience-mismatch" },
    });
    world.answers.set(`${issuer}/token`, no("access_denied"));
    expect(await finishDeviceSignIn(provider, await requestDeviceCode(provider))).toEqual({
      kind: "declined",
    });
  });
});
