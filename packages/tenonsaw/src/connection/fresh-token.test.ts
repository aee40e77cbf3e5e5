import { beforeEach, describe, expect, it, vi } from "vitest";
import {
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  openFakeProvider,
  problemOf,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import { ProblemError } from "../problem/index.js";
import { beginSession, readKeyRing, sessionIdOf, type Store } from "../session/index.js";
import { createMemoryStore } from "../stores/memory.js";
import { isStale } from "./tokens.js";
import {
  authorisedFetch,
  createBackOff,
  createLeases,
  createStubborn,
  fetchWithGrant,
  type Api,
  type Connecting,
} from "./index.js";

const api = { name: "tidebook", provider: "quayside", origin: "https://tidebook.example" };
let world: FakeWorld;
let connecting: Connecting;
let sessionId: string;
let refreshes: number;
let told: string[];
let takenBack: (string | undefined)[];

beforeEach(async () => {
  world = createFakeWorld();
  refreshes = 0;
  told = [];
  takenBack = [];
  const provider = await openFakeProvider(world);
  const tools = provider.tools;
  connecting = {
    tools,
    store: createMemoryStore(),
    ring: await readKeyRing(tools, Buffer.alloc(32, 1).toString("base64url")),
    limitsOf: () => ({ lifetimeSeconds: 3600 }),
    app: "",
    leases: createLeases(tools.platform),
    backOff: createBackOff(tools.platform),
    unwritten: new Map(),
    stubborn: createStubborn(tools.platform),
    takeBack: async (_, { refreshToken }) => void takenBack.push(refreshToken),
    owner: "this process",
    onConnection: (event) => told.push(event.kind),
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

async function open(parts: { refreshToken?: string; idToken?: string }) {
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
  const { value } = await beginSession(connecting, "quayside", granted);
  sessionId = await sessionIdOf(connecting, value);
}
const call = async (path = "/tides", init?: RequestInit) => {
  const answer = await authorisedFetch(connecting, { sessionId }, api, path, init);
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

  it("carries no token over an open line, a grant's of the core's own either", async () => {
    const provider = await connecting.openProvider("quayside");
    const url = "http://tides.example/today";
    const grant = { accessToken: "at-1" };
    for (const [each, at, code, because] of [
      [grant, url, "platform.insecure-url", undefined],
      [grant, "/tides/today", "platform.insecure-url", "no-address"],
      [{ kind: "granted", grant }, `${api.origin}/tides`, "grant.not-a-grant", "outcome"],
      [undefined, `${api.origin}/tides`, "grant.not-a-grant", undefined],
    ] as [typeof grant, string, string, string | undefined][]) {
      const problem = await problemOf(() => fetchWithGrant(provider, each, at));
      expect([problem.code, problem.because]).toEqual([code, because]);
    }
  });

  it("returns a redirect to elsewhere instead of carrying the token along", async () => {
    world.answers.set(
      `${api.origin}/tides`,
      new Response(null, { status: 302, headers: { location: "https://evil.example" } }),
    );
    const answer = await authorisedFetch(connecting, { sessionId }, api, "/tides");
    expect(answer.status).toBe(302);
    expect(world.requests.at(-1)?.init.redirect).toBe("manual");
  });

  describe("and redirects", () => {
    const sent = () =>
      world.requests
        .filter(({ url }) => url.startsWith(api.origin))
        .map(({ url, init }) => [
          init.method,
          url.slice(api.origin.length),
          new Headers(init.headers).get("authorization"),
          init.body ?? "",
        ]);
    const redirect = (status: number, location: string) =>
      world.answers.set(`${api.origin}/tides`, new Response(null, { status, headers: { location } }));

    it.each([
      [301, "POST", "GET", ""],
      [302, "POST", "GET", ""],
      [303, "PUT", "GET", ""],
      [307, "POST", "POST", "x"],
      [308, "PUT", "PUT", "x"],
      [302, "PUT", "PUT", "x"],
    ])(
      "follows %s of a %s at the API's own origin by %s, with the token",
      async (status, method, next, body) => {
        redirect(status, "/tides/today#now");
        world.answers.set(`${api.origin}/tides/today#now`, new Response("today"));
        const answer = await authorisedFetch(connecting, { sessionId }, api, "/tides", { method, body: "x" });
        expect([answer.status, await answer.text()]).toEqual([200, "today"]);
        expect(sent().at(-1)).toEqual([next, "/tides/today#now", "Bearer at-0", body]);
      },
    );

    it.each([
      "https://evil.example/tides",
      "//evil.example/tides",
      "http://tidebook.example/tides",
      "https://tidebook.example:8443/",
      "https://tidebook.example@evil.example/",
      "data:text/plain,x",
      "https://",
    ])("returns one to %s, and sends nothing there", async (location) => {
      redirect(302, location);
      const answer = await authorisedFetch(connecting, { sessionId }, api, "/tides");
      expect([answer.status, answer.headers.get("location")]).toEqual([302, location]);
      const origins = new Set(world.requests.map(({ url }) => new URL(url).origin));
      expect(origins).toEqual(new Set([issuer, api.origin]));
    });

    it("returns one that nobody wants followed, or whose body cannot be sent again, or that never ends", async () => {
      redirect(307, "/tides");
      const status = async (init: RequestInit) =>
        (await authorisedFetch(connecting, { sessionId }, api, "/tides", init)).status;
      expect(await status({ redirect: "manual" })).toBe(307);
      const body = new ReadableStream();
      expect(await status({ method: "POST", body })).toBe(307);
      expect(sent()).toHaveLength(2);
      expect(await status({})).toBe(307);
      expect(sent()).toHaveLength(2 + 6);
    });
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
      // It is not asked again at once, and who calls is told when to come back.
      const asked = world.requests.length;
      const busy = await problemOf(() => call());
      expect([busy.code, world.requests.length]).toEqual(["connection.busy", asked]);
      expect(busy.retryAfterSeconds).toBeGreaterThanOrEqual(1);
      // Nothing is lost by it: a call after that, with the provider back, goes through.
      world.now += busy.retryAfterSeconds ?? 0;
      world.answers.set(`${issuer}/token`, Response.json({ access_token: "at-9", token_type: "Bearer" }));
      expect(await call()).toBe("Bearer at-9");
      expect(told).toEqual(["put off", "put off", "refreshed"]);
    },
  );

  it("spreads refreshes, so that what was granted in one moment is not renewed in one", () => {
    const token = { obtainedAt: noon, expiresAt: noon + 3600 };
    expect(isStale({ obtainedAt: noon }, noon + 1e9)).toBe(false);
    expect([isStale(token, noon + 3539, 0), isStale(token, noon + 3540, 0)]).toEqual([false, true]);
    expect([isStale(token, noon + 3509, 1), isStale(token, noon + 3510, 1)]).toEqual([false, true]);
  });

  describe("at an API that takes a token of its own", () => {
    const slipway = {
      name: "slipway",
      provider: "quayside",
      origin: "https://slipway.example",
      scope: "slipway.status",
      resource: "https://slipway.example",
    };
    const asked: Record<string, string>[] = [];
    const callSlipway = async (other: Partial<Api> = {}) => {
      const answer = await authorisedFetch(connecting, { sessionId }, { ...slipway, ...other }, "/status");
      return ((await answer.json()) as { authorization: string }).authorization;
    };

    beforeEach(() => {
      asked.length = 0;
      world.answers.set(`${issuer}/token`, (_, { body }) => {
        refreshes += 1;
        asked.push(Object.fromEntries(new URLSearchParams(body as string)));
        return Response.json({
          access_token: `at-${refreshes}`,
          token_type: "Bearer",
          expires_in: 30,
          refresh_token: `rt-${refreshes}`,
        });
      });
      world.answers.set(`${slipway.origin}/status`, (_, { headers }) =>
        Response.json({ authorization: new Headers(headers).get("authorization") }),
      );
    });

    it("asks for it with the one refresh token, keeps it, and leaves the common one alone", async () => {
      expect(new Set(await Promise.all([callSlipway(), callSlipway(), callSlipway()]))).toEqual(
        new Set(["Bearer at-1"]),
      );
      expect(await call()).toBe("Bearer at-0");
      expect(asked).toEqual([
        {
          grant_type: "refresh_token",
          refresh_token: "rt-0",
          scope: slipway.scope,
          resource: slipway.resource,
        },
      ]);
      const kept = await stored();
      expect(kept?.scope).toBe("openid");
      expect(kept?.apiTokens?.["slipway"]).toMatchObject({ scope: slipway.scope, expiresAt: noon + 30 });
      expect(JSON.stringify(kept)).not.toMatch(/at-1|rt-1/);
    });

    it("goes on from the refresh token that the other one left, whichever is renewed first", async () => {
      await callSlipway();
      world.now += 30;
      expect(await Promise.all([call(), callSlipway()])).toHaveLength(2);
      expect(asked.map(({ refresh_token }) => refresh_token)).toEqual(["rt-0", "rt-1", "rt-2"]);
    });

    it("keeps what it has for one API when it asks for another", async () => {
      await callSlipway();
      expect(await callSlipway({ name: "slipway-berths" })).toBe("Bearer at-2");
      expect(await callSlipway()).toBe("Bearer at-1");
      expect(asked).toHaveLength(2);
    });

    it("asks anew where the settings now ask for something else", async () => {
      await callSlipway();
      expect(await callSlipway({ scope: "slipway.berths" })).toBe("Bearer at-2");
      expect(asked[1]).toMatchObject({ scope: "slipway.berths" });
    });

    it("renews that one when the API refuses it, and opens it in no other place", async () => {
      await callSlipway();
      world.answers.set(`${slipway.origin}/status`, (_, { headers }) => {
        const authorization = new Headers(headers).get("authorization");
        return Response.json({ authorization }, { status: authorization === "Bearer at-1" ? 401 : 200 });
      });
      expect(await callSlipway()).toBe("Bearer at-2");
      const { sealedAccessToken, ...connection } = (await stored())!;
      const own = connection.apiTokens?.["slipway"];
      await connecting.store.replaceConnection({
        ...connection,
        sealedAccessToken: own?.sealedAccessToken ?? sealedAccessToken,
        version: connection.version + 1,
      });
      expect((await problemOf(() => call())).code).toBe("session.seal-broken");
    });
  });

  it("opens for the person and the provider that it was sealed for, and for nobody else", async () => {
    const { store } = connecting;
    for (const changes of [{ personId: "somebody else" }, { provider: "harbour" }, { id: "another row" }]) {
      const moved: Connecting = {
        ...connecting,
        store: {
          ...store,
          findConnection: async (...values) => ({ ...(await store.findConnection(...values))!, ...changes }),
        },
      };
      expect((await problemOf(() => authorisedFetch(moved, { sessionId }, api, "/tides"))).code).toBe(
        "session.seal-broken",
      );
    }
  });

  describe("with a sealing key that is retired", () => {
    const [old, fresh] = [1, 2].map((byte) => Buffer.alloc(32, byte).toString("base64url"));
    const rotate = async (keys: string) => {
      const { tools } = connecting;
      connecting = {
        ...connecting,
        ring: await readKeyRing(tools, keys),
        leases: createLeases(tools.platform),
      };
    };

    it("seals anew at the next use, so that the retired key can go in the end", async () => {
      const before = await stored();
      await rotate(`${fresh},${old}`);
      expect(await call()).toBe("Bearer at-0");
      const after = await stored();
      expect(after).toMatchObject({ version: 2, refreshCount: 0, expiresAt: before?.expiresAt });
      expect(after?.sealedRefreshToken).not.toBe(before?.sealedRefreshToken);
      await call();
      expect((await stored())?.version).toBe(2);
      await rotate(`${fresh}`);
      expect(await call()).toBe("Bearer at-0");
      world.now += 30;
      expect(await call()).toBe("Bearer at-1");
    });

    it("seals the tokens of single APIs anew with the others", async () => {
      const own = { ...api, scope: "tides.read" };
      const callOwn = async () => {
        const answer = await authorisedFetch(connecting, { sessionId }, own, "/tides");
        return ((await answer.json()) as { authorization: string }).authorization;
      };
      expect(await callOwn()).toBe("Bearer at-1");
      await rotate(`${fresh},${old}`);
      expect(await callOwn()).toBe("Bearer at-1");
      await rotate(`${fresh}`);
      expect(await callOwn()).toBe("Bearer at-1");
      expect(refreshes).toBe(1);
    });

    it("uses the tokens as they are where the store cannot keep them anew, and tells of it", async () => {
      await rotate(`${fresh},${old}`);
      const { tools, store } = connecting;
      const told: unknown[] = [];
      connecting = {
        ...connecting,
        tools: { ...tools, report: (error) => void told.push(error) },
        store: {
          ...store,
          replaceConnection: () => Promise.reject(new ProblemError("store.unavailable")),
        },
      };
      expect(await call()).toBe("Bearer at-0");
      expect(told).toMatchObject([{ problem: { code: "store.unavailable" } }]);
    });

    it("leaves it to a refresh that is under way, and never writes over what that brings", async () => {
      await rotate(`${fresh},${old}`);
      const { id } = (await stored())!;
      await connecting.store.takeLease(`refresh/${id}`, "somebody who refreshes", 60);
      expect(await call()).toBe("Bearer at-0");
      expect((await stored())?.version).toBe(1);
    });

    it("says so where the key is gone, and ends only what it sealed", async () => {
      await rotate(`${fresh}`);
      expect((await problemOf(() => call())).code).toBe("session.seal-key-unknown");
      expect(await connecting.store.findSession(sessionId)).toBeDefined();
      await open({ refreshToken: "rt-0" });
      expect(await call()).toBe("Bearer at-0");
    });
  });

  it("tells the app whose session's connection it was that was renewed", async () => {
    const events: unknown[] = [];
    connecting = { ...connecting, onConnection: (event) => void events.push(event) };
    world.now += 30;
    await call();
    expect(events).toMatchObject([{ kind: "refreshed", sessionId, provider: "quayside" }]);
  });

  it("ends the connection, not the session, when the refresh token is refused", async () => {
    world.answers.set(`${issuer}/token`, Response.json({ error: "invalid_grant" }, { status: 400 }));
    world.now += 30;
    expect((await problemOf(() => call())).code).toBe("connection.ended");
    expect((await stored())?.status).toBe("ended");
    expect(told).toEqual(["needs consent"]);
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
    expect(told).toEqual(["refused"]);
  });

  /** The same app in another process: all in common but what is in its memory. */
  const other = (owner: string): Connecting => ({
    ...connecting,
    owner,
    leases: createLeases(world.platform),
    backOff: createBackOff(world.platform),
    unwritten: new Map(),
  });
  const callFrom = (process: Connecting) => authorisedFetch(process, { sessionId }, api, "/tides");

  it("refreshes once for any number of processes", async () => {
    world.now += 30;
    const processes = [connecting, ...["b", "c", "d", "e"].map(other)];
    const calls = await Promise.all(
      processes.flatMap((each) => [callFrom(each), callFrom(each), callFrom(each)]),
    );
    const used = await Promise.all(
      calls.map(async (each) => ((await each.json()) as { authorization: string }).authorization),
    );
    expect(new Set(used)).toEqual(new Set(["Bearer at-1"]));
    expect([refreshes, told]).toEqual([1, ["refreshed"]]);
    // And one that gets its lease when another has been and gone since it looked.
    world.now += 30;
    const { store } = connecting;
    const takeLease: typeof store.takeLease = async (...lease) => {
      await callFrom(connecting);
      return store.takeLease(...lease);
    };
    await callFrom({ ...other("late"), store: { ...store, takeLease } });
    expect([refreshes, told]).toEqual([2, ["refreshed", "refreshed"]]);
  });

  it("waits for a holder that has died until its lease is over, and takes it over", async () => {
    const { store } = connecting;
    world.now += 30;
    expect(await store.takeLease(`refresh/${(await stored())?.id ?? ""}`, "the dead", 0.2)).toMatchObject({
      kind: "taken",
    });
    // Waiting takes no time in this world, so that the store's own clock would never get there.
    const waiting = {
      ...world.platform,
      wait: () => new Promise<void>((resolve) => setTimeout(resolve, 20)),
    };
    const tools = { ...connecting.tools, platform: waiting };
    expect((await callFrom({ ...connecting, tools })).status).toBe(200);
    expect([refreshes, told]).toEqual([1, ["taken over", "refreshed"]]);
  });

  it("says when to try again where a holder takes longer than anybody waits", async () => {
    world.now += 30;
    await connecting.store.takeLease(`refresh/${(await stored())?.id ?? ""}`, "the slow", 3600);
    const { code, retryAfterSeconds } = await problemOf(() => call());
    expect([code, retryAfterSeconds, refreshes]).toEqual(["connection.busy", 5, 0]);
  });

  it("gives the lease back, also after a failure", async () => {
    world.now += 30;
    world.answers.set(`${issuer}/token`, new Response("", { status: 500 }));
    await problemOf(() => call());
    expect(
      await connecting.store.takeLease(`refresh/${(await stored())?.id ?? ""}`, "next", 1),
    ).toMatchObject({ kind: "taken" });
  });

  it("keeps trying to write what the provider gave, while the store is away", async () => {
    world.now += 30;
    let away = 3;
    const { store } = connecting;
    const shaky: Store = {
      ...store,
      replaceConnection: (record) => {
        away -= 1;
        if (away >= 0) throw new ProblemError("store.unavailable");
        return store.replaceConnection(record);
      },
    };
    expect((await callFrom({ ...connecting, store: shaky })).status).toBe(200);
    expect([refreshes, (await stored())?.refreshCount]).toEqual([1, 1]);
  });

  it("waits longer after each failure, by what the provider says, and never all at the same moment", () => {
    const backOff = createBackOff(world.platform);
    const spans = Array.from({ length: 12 }, () => {
      backOff.note("c", { code: "grant.unavailable" });
      return backOff.pause("c")?.secondsLeft;
    });
    spans.forEach((span, index) => {
      const whole = Math.min(60, 2 ** index);
      expect(span).toBeGreaterThanOrEqual(whole / 2);
      expect(span).toBeLessThanOrEqual(whole);
    });
    backOff.note("c", { code: "grant.unavailable", retryAfterSeconds: 300 });
    world.now += 10;
    expect([backOff.pause("c"), backOff.pause("other")]).toEqual([
      { secondsLeft: 290, code: "grant.unavailable" },
      undefined,
    ]);
    backOff.clear("c");
    expect(backOff.pause("c")).toBeUndefined();
  });

  describe("a provider that hangs, or refuses in its own way", () => {
    const late = (signal?: AbortSignal | null) =>
      new Promise<Response>((_, reject) => {
        signal?.addEventListener("abort", () => reject(signal.reason as Error));
      });

    it("is not waited for while the token is good: the refresh goes on behind the calls", async () => {
      let answer: (response: Response) => void = () => undefined;
      let givenUp: AbortSignal | null | undefined;
      world.answers.set(`${issuer}/token`, (_, { signal }) => {
        givenUp = signal;
        return new Promise<Response>((resolve) => (answer = resolve));
      });
      world.now += 25;
      const waits = vi.spyOn(world.platform, "deadline");
      const patience = () => waits.mock.calls.flat().filter((seconds) => seconds < 5);
      expect(await call()).toBe("Bearer at-0");
      expect(patience()).toEqual([0.5]);
      expect(givenUp?.aborted).toBe(false);
      world.now += 1; // the refresh has been going on for longer than anybody waits
      expect(await Promise.all([call(), call()])).toEqual(["Bearer at-0", "Bearer at-0"]);
      expect(patience()).toEqual([0.5]);
      answer(Response.json({ access_token: "at-9", token_type: "Bearer", refresh_token: "rt-9" }));
      await expect.poll(async () => (await stored())?.refreshCount).toBe(1);
      expect(await call()).toBe("Bearer at-9");
    });

    it.each<[string, object | undefined, number, string, boolean]>([
      ["nothing at all", undefined, 400, "grant.provider-error", false],
      ["a code of its own", { error: "token_is_tired" }, 400, "grant.provider-error", false],
      ["that it does not know the client", { error: "invalid_client" }, 401, "grant.client-refused", false],
      ["that the person is needed", { error: "interaction_required" }, 400, "connection.ended", true],
    ])(
      "that says %s is asked later, and ends a connection only where that is certain",
      async (_, body, status, code, ends) => {
        let asked = 0;
        world.answers.set(`${issuer}/token`, () => {
          asked += 1;
          return body ? Response.json(body, { status }) : new Response("", { status });
        });
        world.now += 30;
        expect((await problemOf(() => call())).code).toBe(code);
        for (let count = 0; count < 5; count += 1)
          expect((await problemOf(() => call())).code).toBe(ends ? "connection.ended" : "connection.busy");
        expect([asked, (await stored())?.status]).toEqual([1, ends ? "ended" : "active"]);
        expect(told).toEqual([ends ? "needs consent" : "put off"]);
      },
    );

    it("that is busy gets one call of all its connections, however many, and the next after a pause", async () => {
      let asked = 0;
      world.answers.set(`${issuer}/token`, () => {
        asked += 1;
        return new Response("", { status: 429, headers: { "retry-after": "40" } });
      });
      const all: string[] = [];
      for (let count = 0; count < 40; count += 1) {
        await open({ refreshToken: "rt-0" });
        all.push(sessionId);
      }
      const callAll = async () => {
        const codes = new Set<string>();
        for (const each of all) {
          sessionId = each;
          codes.add((await problemOf(() => call())).code);
        }
        return codes;
      };
      world.now += 30;
      expect([await callAll(), asked]).toEqual([new Set(["grant.unavailable", "connection.busy"]), 1]);
      // When the pause is over one connection finds out for all.
      world.now += 2;
      await callAll();
      expect(asked).toBe(2);
      world.answers.set(`${issuer}/token`, () =>
        Response.json({ access_token: "at-9", token_type: "Bearer" }),
      );
      world.now += 60;
      sessionId = all.at(-1)!;
      expect(await call()).toBe("Bearer at-9");
    });

    it("that has said nothing but that for ten minutes is believed", async () => {
      world.answers.set(`${issuer}/token`, new Response("", { status: 400 }));
      world.now += 30;
      for (let minute = 0; minute < 11; minute += 1) {
        await problemOf(() => call());
        world.now += 61;
      }
      expect((await stored())?.status).toBe("ended");
      expect(told.at(-1)).toBe("needs consent");
    });

    it("that refuses without a code ends the connection where that is declared", async () => {
      const deviations = { refusalWithoutCode: true } as const;
      const provider = await openFakeProvider(world, [], { deviations });
      world.answers.set(`${issuer}/token`, new Response("", { status: 400 }));
      world.now += 30;
      const declared = { ...connecting, openProvider: async () => provider };
      expect((await problemOf(() => callFrom(declared))).code).toBe("connection.ended");
    });

    it("takes no good token away where its metadata is not to be had, and keeps to what it says", async () => {
      const away = {
        ...connecting,
        openProvider: () =>
          Promise.reject(new ProblemError("provider.unavailable", { retryAfterSeconds: 40 })),
      };
      world.now += 25;
      expect((await callFrom(away)).status).toBe(200);
      world.now += 5;
      expect(await problemOf(() => callFrom(away))).toMatchObject({
        code: "connection.busy",
        retryAfterSeconds: 35,
      });
    });

    it("whose answer comes too late leaves the token to its end, and says what it was", async () => {
      world.answers.set(`${issuer}/token`, (_, { signal }) => late(signal));
      const provider = await openFakeProvider(world, [], { timeoutSeconds: 0.05 });
      world.now += 30;
      const slow = { ...connecting, openProvider: async () => provider };
      expect((await problemOf(() => callFrom(slow))).code).toBe("platform.too-slow");
      expect(await problemOf(() => callFrom(slow))).toMatchObject({
        received: expect.stringContaining("platform.too-slow") as string,
      });
    });
  });

  describe("a process that stands still", () => {
    /** Half a minute or a step of the clock, in the moment after the store has answered. */
    const afterReading = (happens: () => void): Connecting => {
      const { store } = connecting;
      let reads = 0;
      return {
        ...connecting,
        store: {
          ...store,
          async findConnection(...values) {
            const found = await store.findConnection(...values);
            reads += 1;
            if (reads === 3) happens();
            return found;
          },
        },
      };
    };

    it.each<[string, () => void]>([
      ["for half a minute", () => (world.now += 30)],
      ["while its clock is set forward", () => (world.steppedBy += 300)],
    ])("with the lease in its hands, %s, sends nothing under it and takes another", async (_, happens) => {
      world.now += 30;
      expect((await callFrom(afterReading(happens))).status).toBe(200);
      expect([refreshes, (await stored())?.renewedUnder]).toEqual([1, 2]);
    });

    it("does not care when its clock is set back: a lease is measured by another one", async () => {
      const { store } = connecting;
      const shaky: Store = {
        ...store,
        replaceConnection() {
          world.steppedBy -= 300;
          return Promise.reject(new ProblemError("store.unavailable"));
        },
      };
      world.now += 30;
      expect((await problemOf(() => callFrom({ ...connecting, store: shaky }))).code).toBe(
        "store.unavailable",
      );
      expect(world.now).toBeLessThan(noon + 30 + 26);
    });

    it("sends no second request either, with the nonce of the first, once it would come too late", async () => {
      const bound = await openFakeProvider(world, [], { dpopBoundAccessTokens: true });
      let asked = 0;
      world.answers.set(`${issuer}/token`, () => {
        asked += 1;
        world.now += asked === 1 ? 40 : 0;
        const headers = { "dpop-nonce": `n-${asked}` };
        if (asked < 3) return Response.json({ error: "use_dpop_nonce" }, { status: 400, headers });
        return Response.json(
          { access_token: "at-9", token_type: "DPoP", refresh_token: "rt-9" },
          { headers },
        );
      });
      world.now += 30;
      expect((await callFrom({ ...connecting, openProvider: async () => bound })).status).toBe(200);
      // One under the first lease; two under the second, the last with the nonce.
      expect([asked, (await stored())?.renewedUnder]).toEqual([3, 2]);
    });

    it("between answer and write for longer than the lease writes all the same, over what is older", async () => {
      world.now += 30;
      const { store } = connecting;
      const slow: Store = {
        ...store,
        async replaceConnection(record, lease) {
          world.now += 3600;
          // Meanwhile somebody else has the lease, and has sealed the old tokens anew under it.
          const { id, ...rest } = (await stored())!;
          await store.releaseLease(`refresh/${id}`, "nobody");
          if (rest.version === 1) await store.replaceConnection({ id, ...rest, version: 2 });
          return store.replaceConnection(record, lease);
        },
      };
      expect((await callFrom({ ...connecting, store: slow })).status).toBe(200);
      expect(await stored()).toMatchObject({ version: 3, refreshCount: 1 });
      world.now += 30;
      expect(await call()).toBe("Bearer at-2");
    });

    it("tells once what it has written, also where the store's answer got lost, and not what a later one has", async () => {
      const { store } = connecting;
      let turn = 0;
      const deaf: Store = {
        ...store,
        async replaceConnection(record, lease) {
          turn += 1;
          if (turn === 1) {
            await store.replaceConnection(record, lease);
            throw new ProblemError("store.unavailable");
          }
          return store.replaceConnection(record, lease);
        },
      };
      world.now += 30;
      await callFrom({ ...connecting, store: deaf });
      expect([told, (await stored())?.version]).toEqual([["refreshed"], 2]);
      const late: Store = {
        ...store,
        async replaceConnection(record, lease) {
          const found = (await stored())!;
          await store.replaceConnection({ ...found, version: found.version + 1, renewedUnder: 99 });
          return store.replaceConnection(record, lease);
        },
      };
      world.now += 30;
      await problemOf(() => callFrom({ ...connecting, store: late })).catch(() => undefined);
      expect([told, (await stored())?.renewedUnder]).toEqual([["refreshed"], 99]);
    });

    it("keeps what the provider gave in its hands while the store is away, and writes it before it asks again", async () => {
      world.now += 30;
      const { store } = connecting;
      let isAway = true;
      const shaky: Store = {
        ...store,
        replaceConnection: (...values) =>
          isAway ? Promise.reject(new ProblemError("store.unavailable")) : store.replaceConnection(...values),
      };
      const here = { ...connecting, store: shaky };
      expect((await problemOf(() => callFrom(here))).code).toBe("store.unavailable");
      expect([refreshes, (await stored())?.refreshCount]).toEqual([1, 0]);
      isAway = false;
      world.now += 60;
      expect((await callFrom(here)).status).toBe(200);
      expect(await stored()).toMatchObject({ refreshCount: 2 });
      const sent = world.requests.flatMap(({ url, init }) =>
        url.endsWith("/token") ? [new URLSearchParams(init.body as string).get("refresh_token")] : [],
      );
      expect(sent).toEqual(["rt-0", "rt-1"]);
    });

    it("keeps two refreshes within one second apart", async () => {
      world.now += 30;
      expect(await call()).toBe("Bearer at-1");
      const refuse = (_: string, { headers }: RequestInit) => {
        const authorization = new Headers(headers).get("authorization");
        return Response.json({ authorization }, { status: authorization === "Bearer at-1" ? 401 : 200 });
      };
      world.answers.set(`${api.origin}/tides`, refuse);
      expect(await call()).toBe("Bearer at-2");
      expect(await stored()).toMatchObject({ refreshCount: 2, renewedUnder: 2 });
    });
  });

  it("takes back what a refresh brought for somebody who signed out meanwhile", async () => {
    world.now += 30;
    world.answers.set(`${issuer}/token`, async () => {
      await connecting.store.endSession(sessionId);
      return Response.json({ access_token: "at-1", token_type: "Bearer", refresh_token: "rt-1" });
    });
    expect((await problemOf(() => call())).code).toBe("connection.none");
    expect(takenBack).toEqual(["rt-1"]);
  });

  describe("an ID token that comes with a refresh", () => {
    const key = createTestKey("ES256");
    const claims = { iss: issuer, sub: "qs-10231", aud: "ferrywell", iat: noon + 30, exp: noon + 900 };
    const refreshWith = async (changes: object, signer = key, keys?: Response, hadOne = true) => {
      const provider = await openFakeProvider(world, [key]);
      if (keys) world.answers.set(`${issuer}/keys`, keys);
      const first = await key.sign({ ...claims, nonce: "n0nce", auth_time: noon });
      await open({ refreshToken: "rt-0", ...(hadOne && { idToken: first }) });
      const idToken = await signer.sign({ ...claims, ...changes });
      world.answers.set(
        `${issuer}/token`,
        Response.json({
          access_token: "at-1",
          token_type: "Bearer",
          refresh_token: "rt-1",
          id_token: idToken,
        }),
      );
      world.now += 30;
      return callFrom({ ...connecting, openProvider: async () => provider });
    };

    it.each<[string, object]>([
      ["says no more than it has to", {}],
      ["says when and by which nonce as the first one did", { nonce: "n0nce", auth_time: noon }],
      ["lists its audience", { aud: ["ferrywell"] }],
    ])("is taken where it %s", async (_, changes) => {
      expect((await refreshWith(changes)).status).toBe(200);
    });

    it("ends the connection where somebody else has signed it", async () => {
      const work = () => refreshWith({}, createTestKey("ES256"));
      expect((await problemOf(work)).code).toBe("jose.signature-mismatch");
      expect((await stored())?.status).toBe("ended");
    });

    it.each<[string, object, string]>([
      ["another person", { sub: "qs-10447" }, "identity.refreshed-otherwise"],
      ["another authentication", { auth_time: noon + 20 }, "identity.refreshed-otherwise"],
      ["another nonce", { nonce: "other" }, "identity.refreshed-otherwise"],
      ["another issuer", { iss: "https://evil.example" }, "identity.issuer-mismatch"],
      ["another audience", { aud: "other" }, "identity.audience-mismatch"],
      ["a time that is over", { exp: noon - 120 }, "identity.expired"],
    ])("ends the connection where it is about %s", async (_, changes, code) => {
      expect((await problemOf(() => refreshWith(changes))).code).toBe(code);
      expect([(await stored())?.status, takenBack, told]).toEqual(["ended", ["rt-1"], ["needs consent"]]);
    });

    it("is held against the subject where there was none at the sign-in", async () => {
      expect((await refreshWith({ auth_time: noon }, key, undefined, false)).status).toBe(200);
      const stranger = () => refreshWith({ sub: "qs-10447" }, key, undefined, false);
      expect((await problemOf(stranger)).code).toBe("identity.refreshed-otherwise");
    });

    it("is left out while the keys to read it by are not to be had", async () => {
      const away = new Response("", { status: 503 });
      expect((await refreshWith({}, key, away)).status).toBe(200);
    });
  });

  it("waits for the new token where the API has refused the one that is good by its time", async () => {
    world.answers.set(`${issuer}/token`, async () => {
      await new Promise((resolve) => setTimeout(resolve, 700));
      return Response.json({ access_token: "at-1", token_type: "Bearer", refresh_token: "rt-1" });
    });
    world.answers.set(`${api.origin}/tides`, (_, { headers }) => {
      const authorization = new Headers(headers).get("authorization");
      return Response.json({ authorization }, { status: authorization === "Bearer at-0" ? 401 : 200 });
    });
    expect(await call()).toBe("Bearer at-1");
  });

  it("gives an API that refuses every token no new one for each call", async () => {
    let calls = 0;
    world.answers.set(`${api.origin}/tides`, () => {
      calls += 1;
      return new Response("", { status: 401 });
    });
    for (let count = 0; count < 20; count += 1)
      expect((await authorisedFetch(connecting, { sessionId }, api, "/tides")).status).toBe(401);
    expect([refreshes, calls]).toEqual([1, 21]);
    world.now += 11;
    await authorisedFetch(connecting, { sessionId }, api, "/tides");
    expect(refreshes).toBe(2);
  });

  it("lets a stream go on for as long as it likes, once it has begun", async () => {
    const deadline = new AbortController();
    let seen: AbortSignal | undefined;
    world.answers.set(`${api.origin}/tides`, (_, { signal }) => {
      seen = signal ?? undefined;
      return new Response(new ReadableStream());
    });
    const platform = { ...world.platform, deadline: () => deadline.signal };
    const tools = { ...connecting.tools, platform };
    await authorisedFetch({ ...connecting, tools }, { sessionId }, api, "/tides");
    deadline.abort();
    expect(seen?.aborted).toBe(false);
  });

  it("waits no longer for an API than its time, also where somebody's own fetch hears no signal", async () => {
    const deadline = new AbortController();
    world.answers.set(`${api.origin}/tides`, () => {
      setTimeout(() => deadline.abort(new DOMException("late", "TimeoutError")), 10);
      return new Promise(() => undefined);
    });
    const platform = { ...world.platform, deadline: () => deadline.signal };
    const tools = { ...connecting.tools, platform };
    await expect(
      authorisedFetch({ ...connecting, tools }, { sessionId }, api, "/tides"),
    ).rejects.toMatchObject({ name: "TimeoutError" });
  });

  it("without a refresh token uses the access token to its end", async () => {
    await open({});
    world.now += 29;
    expect(await call()).toBe("Bearer at-0");
    world.now += 1;
    expect(await problemOf(() => call())).toMatchObject({
      code: "connection.ended",
      because: "not-renewable",
      ask: { provider: "quayside" },
    });
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
          authorisedFetch(connecting, { sessionId }, api, "/tides", { method: "POST", body: "slot=1" }),
        ),
      );
      expect(await Promise.all(answers.map((answer) => answer.json()))).toEqual(
        Array(5).fill({ authorization: "Bearer at-1", body: "slot=1" }),
      );
      expect(refreshes).toBe(1);
    });

    it("returns the second refusal, instead of going on for ever", async () => {
      refusing("at-0", "at-1");
      expect((await authorisedFetch(connecting, { sessionId }, api, "/tides")).status).toBe(401);
      expect(refreshes).toBe(1);
    });

    it("returns the first where the body cannot be sent again, or there is nothing to renew with", async () => {
      refusing("at-0");
      const body = new Blob(["slot=1"]).stream();
      expect(
        (await authorisedFetch(connecting, { sessionId }, api, "/tides", { method: "POST", body })).status,
      ).toBe(401);
      await open({});
      expect((await authorisedFetch(connecting, { sessionId }, api, "/tides")).status).toBe(401);
      expect(refreshes).toBe(0);
    });
  });

  it("says so when there is no connection", async () => {
    const { code } = await problemOf(() =>
      authorisedFetch(connecting, { sessionId }, { ...api, provider: "harbour" }, "/tides"),
    );
    expect(code).toBe("connection.none");
  });
});
