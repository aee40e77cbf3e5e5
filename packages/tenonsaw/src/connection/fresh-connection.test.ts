import { beforeEach, describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
  noon,
  openFakeProvider,
  problemOf,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import { beginSession, hashId, readKeyRing } from "../session/index.js";
import { createMemoryStore } from "../stores/memory.js";
import { authorisedFetch, createLeases, type Connecting } from "./index.js";

const api = { provider: "quayside", origin: "https://tidebook.example" };
let world: FakeWorld;
let connecting: Connecting;
let sessionId: string;
let refreshes: number;

beforeEach(async () => {
  world = createFakeWorld();
  refreshes = 0;
  const provider = await openFakeProvider(world);
  const tools = provider.tools;
  connecting = {
    tools,
    store: createMemoryStore(),
    ring: await readKeyRing(tools, Buffer.alloc(32, 1).toString("base64url")),
    leases: createLeases(),
    openProvider: async () => provider,
    openOAuth1: () => {
      throw new TypeError("nothing of OAuth 1.0a here");
    },
  };
  world.answers.set(`${issuer}/token`, () => {
    refreshes += 1;
    return Response.json({
      access_token: `at-${refreshes}`,
      token_type: "Bearer",
      expires_in: 30,
      refresh_token: `rt-${refreshes}`,
    });
  });
  world.answers.set(`${api.origin}/tides`, (_, { headers }) =>
    Response.json({ authorization: new Headers(headers).get("authorization") }),
  );
  await open({ refreshToken: "rt-0" });
});

async function open(parts: { refreshToken?: string }) {
  const granted = {
    identity: { issuer, subject: "qs-10231", profile: {}, claims: {}, isProved: true },
    grant: {
      issuer,
      clientId: "ferrywell",
      accessToken: "at-0",
      scope: "openid",
      obtainedAt: noon,
      expiresAt: noon + 30,
      ...parts,
    },
  };
  const { value } = await beginSession(connecting, "quayside", granted, 3600);
  sessionId = await hashId(world.platform, value);
}
const call = async (path = "/tides", init?: RequestInit) => {
  const answer = await authorisedFetch(connecting, sessionId, api, path, init);
  return ((await answer.json()) as { authorization: string }).authorization;
};
const stored = () => connecting.store.findConnection(sessionId, "quayside");

describe("authorisedFetch", () => {
  it("sends the token while it is good, and never the caller's own credentials in its place", async () => {
    expect(await call()).toBe("Bearer at-0");
    expect(await call("/tides", { headers: { Authorization: "Bearer mine" } })).toBe("Bearer at-0");
    expect(await call(`${api.origin}/tides`)).toBe("Bearer at-0");
    expect(refreshes).toBe(0);
  });

  it.each([
    "https://evil.example/tides",
    "//evil.example",
    "/\\evil.example",
    "https://tidebook.example.evil.example",
    "http://tidebook.example/tides",
    "https://tidebook.example:444/",
    "https://",
  ])("does not send it to %s", async (path) => {
    const before = world.requests.length;
    const { code } = await problemOf(() => call(path));
    expect(code).toBe("connection.other-origin");
    expect(world.requests).toHaveLength(before);
  });

  it("returns a redirect instead of carrying the token along", async () => {
    world.answers.set(
      `${api.origin}/tides`,
      new Response(null, { status: 302, headers: { location: "https://evil.example" } }),
    );
    const answer = await authorisedFetch(connecting, sessionId, api, "/tides");
    expect(answer.status).toBe(302);
    expect(world.requests.at(-1)?.init.redirect).toBe("manual");
  });

  it("refreshes before expiry, once for any number of calls, and keeps what rotated", async () => {
    world.now += 24;
    expect(new Set(await Promise.all(Array.from({ length: 25 }, () => call())))).toEqual(
      new Set(["Bearer at-1"]),
    );
    expect(refreshes).toBe(1);
    world.now += 30;
    expect(await call()).toBe("Bearer at-2");
    const bodies = world.requests.flatMap(({ init }) =>
      typeof init.body === "string" ? [new URLSearchParams(init.body).get("refresh_token")] : [],
    );
    expect(bodies).toEqual(["rt-0", "rt-1"]);
    expect(await stored()).toMatchObject({
      refreshCount: 2,
      version: 3,
      status: "active",
      expiresAt: noon + 84,
    });
  });

  it("keeps the new tokens before anybody uses them, and sealed", async () => {
    world.now += 30;
    world.answers.set(`${api.origin}/tides`, async () => {
      expect((await stored())?.refreshCount).toBe(1);
      return Response.json({});
    });
    await call();
    expect(JSON.stringify(await stored())).not.toMatch(/at-1|rt-1/);
  });

  it.each<[string, () => Response | Error]>([
    ["status 503", () => new Response("", { status: 503 })],
    ["no connection", () => new TypeError("down")],
  ])(
    "uses the token that is still good when the provider answers with %s, and fails after that",
    async (_, answer) => {
      world.answers.set(`${issuer}/token`, answer());
      world.now += 25;
      expect(await call()).toBe("Bearer at-0");
      world.now += 5;
      const { code } = await problemOf(() => call());
      expect(["grant.unavailable", "platform.unreachable"]).toContain(code);
      // Nothing is lost by it: the next call, with the provider back, goes through.
      world.answers.set(`${issuer}/token`, Response.json({ access_token: "at-9", token_type: "Bearer" }));
      expect(await call()).toBe("Bearer at-9");
    },
  );

  it("ends the connection, not the session, when the refresh token is refused", async () => {
    world.answers.set(`${issuer}/token`, Response.json({ error: "invalid_grant" }, { status: 400 }));
    world.now += 30;
    expect((await problemOf(() => call())).code).toBe("connection.ended");
    expect((await stored())?.status).toBe("ended");
    const asked = world.requests.length;
    expect((await problemOf(() => call())).code).toBe("connection.ended");
    expect(world.requests).toHaveLength(asked);
    expect(await connecting.store.findSession(sessionId)).toBeDefined();
  });

  it("believes the store, not the refusal, when somebody else has refreshed in the meantime", async () => {
    world.now += 30;
    world.answers.set(`${issuer}/token`, async () => {
      const { sealedRefreshToken: _spent, ...connection } = (await stored())!;
      await connecting.store.replaceConnection({ ...connection, expiresAt: world.now + 30, version: 2 });
      return Response.json({ error: "invalid_grant" }, { status: 400 });
    });
    expect(await call()).toBe("Bearer at-0");
    expect(await stored()).toMatchObject({ status: "active", version: 2 });
  });

  it("without a refresh token uses the access token to its end", async () => {
    await open({});
    world.now += 29;
    expect(await call()).toBe("Bearer at-0");
    world.now += 1;
    expect((await problemOf(() => call())).code).toBe("grant.no-refresh-token");
  });

  it("writes nothing for a person who signed out while the refresh was under way", async () => {
    world.now += 30;
    world.answers.set(`${issuer}/token`, async () => {
      await connecting.store.endSession(sessionId);
      return Response.json({ access_token: "at-1", token_type: "Bearer" });
    });
    expect((await problemOf(() => call())).code).toBe("connection.none");
    expect(await stored()).toBeUndefined();
  });

  describe("when the API refuses the token", () => {
    const refusing = (...refused: readonly string[]) =>
      world.answers.set(`${api.origin}/tides`, (_, { headers, body }) => {
        const authorization = new Headers(headers).get("authorization") ?? "";
        const status = refused.includes(authorization.slice(7)) ? 401 : 200;
        return Response.json({ authorization, body: body ?? null }, { status });
      });

    it("renews it once, for all calls together, and repeats them with their bodies", async () => {
      refusing("at-0");
      const answers = await Promise.all(
        Array.from({ length: 5 }, () =>
          authorisedFetch(connecting, sessionId, api, "/tides", { method: "POST", body: "slot=1" }),
        ),
      );
      expect(await Promise.all(answers.map((answer) => answer.json()))).toEqual(
        Array(5).fill({ authorization: "Bearer at-1", body: "slot=1" }),
      );
      expect(refreshes).toBe(1);
    });

    it("returns the second refusal, instead of going on for ever", async () => {
      refusing("at-0", "at-1");
      expect((await authorisedFetch(connecting, sessionId, api, "/tides")).status).toBe(401);
      expect(refreshes).toBe(1);
    });

    it("returns the first where the body cannot be sent again, or there is nothing to renew with", async () => {
      refusing("at-0");
      const body = new Blob(["slot=1"]).stream();
      expect(
        (await authorisedFetch(connecting, sessionId, api, "/tides", { method: "POST", body })).status,
      ).toBe(401);
      await open({});
      expect((await authorisedFetch(connecting, sessionId, api, "/tides")).status).toBe(401);
      expect(refreshes).toBe(0);
    });
  });

  it("says so when there is no connection", async () => {
    const { code } = await problemOf(() =>
      authorisedFetch(connecting, sessionId, { ...api, provider: "harbour" }, "/tides"),
    );
    expect(code).toBe("connection.none");
  });
});
