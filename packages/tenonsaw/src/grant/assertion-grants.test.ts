import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
  noon,
  openFakeProvider,
  problemOf,
  type FakeAnswer,
} from "../../../../tests/support/fake-world.js";
import { beginSignIn } from "../attempt/index.js";
import {
  awaitDeviceGrant,
  type DeviceRequest,
  exchangeToken,
  refreshGrant,
  requestAssertionToken,
  requestClientToken,
  requestDeviceCode,
  revokeGrant,
} from "./index.js";

const accessTokenType = "urn:ietf:params:oauth:token-type:access_token";
const tokens = { access_token: "at-1", token_type: "Bearer", issued_token_type: accessTokenType };

async function setUp(answer: FakeAnswer) {
  const world = createFakeWorld();
  const provider = await openFakeProvider(world);
  world.answers.set(`${issuer}/token`, answer);
  return { world, provider, sent: () => new URLSearchParams(world.requests.at(-1)!.init.body as string) };
}

it.each<[string, (provider: never) => Promise<unknown>]>([
  ["beginSignIn", (provider) => beginSignIn(provider, { redirectUri: "https://ferrywell.example/back" })],
  [
    "refreshGrant",
    (provider) => refreshGrant(provider, { accessToken: "at-0", refreshToken: "rt-0" } as never),
  ],
  ["revokeGrant", (provider) => revokeGrant(provider, { accessToken: "at-0" } as never)],
  ["requestClientToken", (provider) => requestClientToken(provider, "tides.read")],
  ["requestAssertionToken", (provider) => requestAssertionToken(provider, "a.b.c")],
  ["exchangeToken", (provider) => exchangeToken(provider, { subjectToken: "at-0" })],
  ["requestDeviceCode", (provider) => requestDeviceCode(provider)],
  ["awaitDeviceGrant", (provider) => awaitDeviceGrant(provider, {} as never)],
])("%s says that its provider was not waited for, or is none", async (_, work) => {
  for (const [given, received] of [
    [openFakeProvider(createFakeWorld()), "a promise"],
    [undefined, "undefined"],
  ] as const) {
    const problem = await problemOf(() => work(given as never));
    expect(problem).toMatchObject({ code: "provider.not-open", received });
    expect(problem.here).toContain("put `await` before openProvider");
  }
});

it("sends no token that was not handed over", async () => {
  const { provider, world } = await setUp(Response.json(tokens));
  const before = world.requests.length;
  const device = { deviceCode: "dc", expiresAt: 1, intervalSeconds: 5 } as DeviceRequest;
  for (const [work, because, received] of [
    [() => requestAssertionToken(provider, undefined as never), "absent", "assertion: undefined"],
    [() => requestAssertionToken(provider, "a.b.c", [] as never), "not-text", "scope: a list"],
    [() => exchangeToken(provider, {} as never), "absent", "subjectToken: undefined"],
    [() => exchangeToken(provider, undefined as never), "absent", "subjectToken: undefined"],
    [() => requestClientToken(provider, undefined as never), "absent", "scope: undefined"],
    [() => requestDeviceCode(provider, 5 as never), "not-text", "scope: 5"],
    [() => awaitDeviceGrant(provider, undefined as never), "no-device", "device: undefined"],
    [() => awaitDeviceGrant(provider, Promise.resolve(device) as never), "no-device", "device: a promise"],
    [
      () => awaitDeviceGrant(provider, device, "soon" as never),
      "no-signal",
      "signal: a text of 4 characters",
    ],
  ] as const)
    expect(await problemOf(work)).toMatchObject({ code: "attempt.parameters-refused", because, received });
  expect(world.requests).toHaveLength(before);
});

describe("requestAssertionToken", () => {
  it("sends the assertion, and only the scope that was asked for", async () => {
    const { provider, sent, world } = await setUp(Response.json(tokens));
    expect((await requestAssertionToken(provider, "a.b.c", "tides.read")).accessToken).toBe("at-1");
    expect(Object.fromEntries(sent())).toEqual({
      grant_type: "urn:ietf:params:oauth:grant-type:jwt-bearer",
      assertion: "a.b.c",
      scope: "tides.read",
    });
    await requestAssertionToken(provider, "a.b.c");
    expect(sent().has("scope")).toBe(false);
    expect(JSON.stringify(world.events)).not.toContain("a.b.c");
  });

  it("says so when the assertion is refused", async () => {
    const { provider } = await setUp(Response.json({ error: "invalid_grant" }, { status: 400 }));
    expect((await problemOf(() => requestAssertionToken(provider, "a.b.c"))).code).toBe(
      "grant.provider-error",
    );
  });
});

describe("exchangeToken", () => {
  it("names each place where the new token is to serve", async () => {
    const { provider, sent, world } = await setUp(Response.json(tokens));
    await exchangeToken(provider, {
      subjectToken: "at-0",
      actorToken: "at-machine",
      audience: ["slipway", "tidebook"],
      resource: ["https://tidebook.example"],
      scope: "tides.read",
    });
    expect(sent().getAll("audience")).toEqual(["slipway", "tidebook"]);
    expect(Object.fromEntries(sent())).toMatchObject({
      grant_type: "urn:ietf:params:oauth:grant-type:token-exchange",
      subject_token: "at-0",
      subject_token_type: accessTokenType,
      actor_token: "at-machine",
      actor_token_type: accessTokenType,
      requested_token_type: accessTokenType,
      resource: "https://tidebook.example",
    });
    expect(JSON.stringify(world.events)).not.toMatch(/at-0|at-machine/);
    await exchangeToken(provider, { subjectToken: "at-0" });
    expect(sent().has("actor_token_type")).toBe(false);
  });

  it.each<[string, object]>([
    ["another kind of token", { issued_token_type: "urn:ietf:params:oauth:token-type:id_token" }],
    ["a token of no kind", { issued_token_type: undefined }],
    ["a token that is not for access", { token_type: "N_A" }],
  ])("refuses %s", async (_, change) => {
    const { provider } = await setUp(Response.json({ ...tokens, ...change }));
    const { code } = await problemOf(() => exchangeToken(provider, { subjectToken: "at-0" }));
    expect(code).toBe("grant.token-type-refused");
  });
});

describe("a provider that asks for patience", () => {
  it.each<[string, string | undefined, number | undefined]>([
    ["in seconds", "30", 30],
    ["until a time of day", new Date((noon + 90) * 1000).toUTCString(), 90],
    ["until a time that is over", new Date((noon - 90) * 1000).toUTCString(), 0],
    ["for a year", "31536000", 86_400],
    ["in words", "soon", undefined],
    ["without saying how long", undefined, undefined],
  ])("%s", async (_, header, seconds) => {
    const headers = header === undefined ? {} : { "retry-after": header };
    const { provider } = await setUp(new Response("", { status: 429, headers }));
    const problem = await problemOf(() => requestClientToken(provider, "slipway.status"));
    expect(problem.code).toBe("grant.unavailable");
    expect(problem.retryAfterSeconds).toBe(seconds);
  });
});
