import { createServer, request as send } from "node:http";
import type { AddressInfo } from "node:net";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { createPlatform } from "tenonsaw/platform";
import { createVisitor, startPractice, type Practice } from "tenonsaw-practice";
import { problemOf } from "../../../../../tests/support/fake-world.js";
import { hurried, startApp, type App } from "../../../../../tests/support/start-app.js";
import { createTools } from "../../trace/index.js";
import { noteBodyRead, readForm } from "../../trace/index.js";
import { nodeListener } from "../adapters/node.js";
import { createPeerLimit, requestsAMinute } from "./peer-limit.js";
import { createOriginReader, notePeer } from "./public-origin.js";

const tools = createTools();
const form = { "content-type": "application/x-www-form-urlencoded" };
const post = (body: BodyInit, headers: Record<string, string> = {}) =>
  new Request("http://localhost/sign-in/out", {
    method: "POST",
    body,
    headers: { ...form, ...headers },
    duplex: "half",
  } as RequestInit);

describe("a body", () => {
  it("is read to its limit and not beyond, and not at all where it says that it is longer", async () => {
    let pulled = 0;
    const endless = new ReadableStream<Uint8Array>({
      pull: (controller) => {
        pulled += 1;
        controller.enqueue(new Uint8Array(1024));
      },
    });
    expect((await problemOf(() => readForm(tools, post(endless), 4096))).code).toBe("server.body-too-large");
    expect(pulled).toBeLessThan(10);
    const stated = post("a=1", { "content-length": "4097" });
    expect((await problemOf(() => readForm(tools, stated, 4096))).code).toBe("server.body-too-large");
    expect(stated.bodyUsed).toBe(false);
    expect((await readForm(tools, post("a=%C3%BC&b=2"), 4096)).get("a")).toBe("ü");
    const [first = 0, ...rest] = new TextEncoder().encode("ü");
    const halves = new ReadableStream<Uint8Array>({
      start: (controller) => {
        for (const part of [[97, 61, first], rest]) controller.enqueue(Uint8Array.from(part));
        controller.close();
      },
    });
    expect((await readForm(tools, post(halves), 4096)).get("a")).toBe("ü");
    const fields = new FormData();
    fields.set("everywhere", "1");
    for (const odd of [JSON.stringify({ everywhere: true }), "everywhere=1", fields]) {
      const other = new Request("http://localhost/", { method: "POST", body: odd });
      expect((await problemOf(() => readForm(tools, other, 4096))).code).toBe("server.body-no-form");
    }
    expect([...(await readForm(tools, new Request("http://localhost/", { method: "POST" }), 4096))]).toEqual(
      [],
    );
  });

  it("that does not come, breaks off, or was read before is called that", async () => {
    const soon = { platform: createPlatform({ deadline: () => AbortSignal.timeout(50) }) };
    const silent = new ReadableStream<Uint8Array>({ pull: () => new Promise(() => undefined) });
    expect((await problemOf(() => readForm(soon, post(silent), 4096))).code).toBe("server.request-too-slow");
    const broken = new ReadableStream<Uint8Array>({
      pull: (controller) => controller.error(new TypeError("reset")),
    });
    expect((await problemOf(() => readForm(tools, post(broken), 4096))).code).toBe("server.body-broken");
    const used = post("a=1");
    await used.text();
    expect((await problemOf(() => readForm(tools, used, 4096))).code).toBe("server.body-read-before");
    const noted = post("a=1");
    noteBodyRead(noted);
    expect((await problemOf(() => readForm(tools, noted, 4096))).code).toBe("server.body-read-before");
  });
});

describe("what proxies say", () => {
  const origin = "https://ferrywell.example";
  const named = { header: "forwarded" as const, addresses: ["10.0.0.0/8"], otherOrigins: [] as string[] };
  const read = (value: string, proxies: object = named, name = "forwarded") => {
    const request = new Request("http://localhost:3000/", { headers: { [name]: value } });
    notePeer(request, "10.0.0.1");
    return createOriginReader(tools, { origin, proxies: { ...named, ...proxies } })(request);
  };

  it("is read in time that grows with its length, whatever is in it", () => {
    const secondsFor = (length: number) => {
      const before = process.cpuUsage();
      for (let turn = 0; turn < 20; turn += 1)
        try {
          read(`for=10.0.0.1;host="${'\\"'.repeat(length / 2)}`);
        } catch {
          // it is no origin of ours
        }
      return process.cpuUsage(before).user / 1e6;
    };
    secondsFor(500);
    expect(secondsFor(3900)).toBeLessThan(30 * Math.max(0.001, secondsFor(1950)));
  });

  it.each<[string, string, string, object]>([
    ["too long", "forwarded", `for=${"1".repeat(5000)}`, named],
    ["of too many", "forwarded", "for=10.0.0.1,".repeat(21), named],
    [
      "of too many, in the older headers",
      "x-forwarded-for",
      "10.0.0.1,".repeat(21),
      { header: "x-forwarded" },
    ],
  ])("is refused where it is %s", async (_, name, value, proxies) => {
    expect((await problemOf(() => read(value, proxies, name))).code).toBe("server.request-too-large");
  });

  it("is not even read where nobody who is named has sent it", () => {
    const header = "for=1.2.3.4;proto=https;host=ferrywell.example,".repeat(80);
    const request = new Request("https://ferrywell.example/", {
      headers: { forwarded: header, host: "ferrywell.example" },
    });
    notePeer(request, "192.0.2.1");
    const whence = createOriginReader(tools, { origin, proxies: named })(request);
    expect(whence).toEqual({ origin, peer: "192.0.2.1" });
  });

  it("tells whose request it is: the address that the outermost named proxy saw, and no other", () => {
    const hop = "proto=https;host=ferrywell.example";
    expect(read(`for=203.0.113.9;${hop}, for="[2001:db8::7]:4711";${hop}`)).toEqual({
      origin,
      peer: "2001:db8::7",
    });
  });
});

describe("the usual limit", () => {
  it("is by address, by network for the long ones, and none for what may be a proxy", () => {
    let now = 0;
    const limit = createPeerLimit({ monotonic: () => now });
    const spend = (peer: string) => {
      for (let count = 0; count < requestsAMinute; count += 1) expect(limit(peer)).toBeUndefined();
      return limit(peer);
    };
    expect(spend("203.0.113.9")).toBeCloseTo(0.1);
    expect(limit("203.0.113.10")).toBeUndefined();
    expect(spend("2001:4860::1")).toBeGreaterThan(0);
    const [same, others] = ["2001:4860::ffff", ["2001:4860:1::1", "2a01:4860::1"]];
    expect([limit(same), ...others.map(limit)]).toEqual([expect.any(Number), undefined, undefined]);
    for (const peer of [
      "127.0.0.1",
      "::1",
      "10.1.2.3",
      "192.168.0.7",
      "fd00::1",
      "not an address",
      undefined,
    ])
      for (let count = 0; count <= requestsAMinute; count += 1) expect(limit(peer)).toBeUndefined();
    now += 30;
    for (let count = 0; count < requestsAMinute / 2; count += 1) expect(limit("203.0.113.9")).toBeUndefined();
    expect(limit("203.0.113.9")).toBeGreaterThan(0);
  });
});

describe("a stranger at the door", () => {
  let practice: Practice;
  let app: App;
  beforeEach(async () => {
    practice = await startPractice({ algorithm: "ES256" });
    app = await startApp(practice, { limitRate: (_, peer) => (peer === "203.0.113.9" ? 7 : undefined) });
  });
  afterEach(() => Promise.all([app.stop(), practice.stop()]));

  it("is told nothing of how often he may come by a function that says true, or words", async () => {
    for (const answer of [true, "7", Number.NaN, Infinity]) {
      const other = await startApp(practice, { limitRate: () => answer as never });
      const { status, text } = await createVisitor().open(`${other.origin}/sign-in/to/quayside`);
      expect([status, text.includes("(server.hook-unusable)")]).toEqual([500, true]);
      await other.stop();
    }
  });

  it("is answered where the function that is asked how often he may come never says", async () => {
    const problems: unknown[] = [];
    const other = await startApp(practice, {
      platform: hurried(),
      limitRate: () => new Promise(() => undefined),
      onProblem: ({ problem }) => problems.push([problem.code, problem.because, problem.received]),
    });
    const { status } = await createVisitor().open(`${other.origin}/sign-in/to/quayside`);
    expect(status).toBe(500);
    expect(problems).toEqual([["server.hook-unusable", "silent", "`limitRate` has not answered for 30 s"]]);
    await other.stop();
  });

  it("gets 413 for a body without end, and costs no memory", async () => {
    const before = process.memoryUsage().rss;
    const statuses = await Promise.all(
      Array.from(
        { length: 4 },
        (_, index) =>
          new Promise<number | undefined>((resolve) => {
            const request = send(`${app.origin}/sign-in/${index % 2 ? "out" : "back-channel/quayside"}`, {
              method: "POST",
              headers: { origin: app.origin },
            });
            const chunk = Buffer.alloc(256 * 1024, "x");
            const pump = () => {
              while (!request.destroyed && request.write(chunk));
              request.once("drain", pump);
            };
            request.on("response", (answer) => {
              resolve(answer.statusCode);
              request.destroy();
            });
            request.on("error", () => resolve(undefined));
            pump();
          }),
      ),
    );
    expect(statuses).toEqual(Array(4).fill(413));
    expect((process.memoryUsage().rss - before) / 2 ** 20).toBeLessThan(150);
  });

  it("leaves at most 1,100 bytes behind, whatever is asked for, and nothing but a mark of it when it is over", async () => {
    const long = (length: number) => "x".repeat(length);
    const query = new URLSearchParams({
      returnTo: `/${long(200)}?${long(150)}`,
      acrValues: long(100),
      scope: long(200),
      maxAge: "1",
      in: "pop-up",
    });
    const adding = vi.spyOn(app.store, "addAttempt");
    const headers = { host: `${long(60)}.example` };
    await app.signIn.handle(new Request(`${app.origin}/sign-in/to/quayside?${query}`, { headers }));
    await app.signIn.handle(new Request(`${app.origin}/sign-in/to/quayside?returnTo=/${long(300)}`));
    const added = adding.mock.calls.map(([record]) => record);
    const sizes = added.map((record) => Object.values(record).join("").length);
    expect(sizes).toHaveLength(2);
    for (const size of sizes) expect(size).toBeLessThanOrEqual(1100);
    // What gives way is the return path, and only where the rest takes all the room.
    expect(added).toMatchObject([{ returnTo: "/" }, { returnTo: `/${long(300)}` }]);
    for (const [name, value] of [
      ["returnTo", `/${long(400)}`],
      ["acrValues", long(101)],
      ["scope", long(201)],
      ["loginHint", "a\nb"],
      ["uiLocales", long(101)],
      ["maxAge", "1e3"],
    ] as const) {
      const begun = `${app.origin}/sign-in/to/quayside?${new URLSearchParams({ [name]: value })}`;
      expect([name, (await app.signIn.handle(new Request(begun)))?.status]).toEqual([name, 400]);
    }
  });

  it("is told that an attempt is over, for a day after it", async () => {
    const visitor = createVisitor();
    await visitor.open(`${app.origin}/sign-in/to/quayside`);
    await visitor.press("Maren");
    app.aheadSeconds = 700;
    await visitor.fetch(`${app.origin}/sign-in/to/quayside`); // sweeps
    await visitor.press("Yes, allow");
    expect(visitor.page?.text).toContain("response.attempt-too-old");
  });

  it("is limited by where they come from, and neither by nor for others", async () => {
    const from = async (peer: string, path = "to/quayside") => {
      const request = new Request(`${app.origin}/sign-in/${path}`);
      notePeer(request, peer);
      const answer = await app.signIn.handle(request);
      return [answer?.status, answer?.headers.get("retry-after")];
    };
    expect(await from("203.0.113.9")).toEqual([429, "7"]);
    expect(await from("203.0.113.9", "session")).toEqual([200, null]);
    expect(await from("203.0.113.10")).toEqual([303, null]);
  });

  it("is told where something has read a body before the sign-in routes could", async () => {
    const server = createServer((incoming, outgoing) => {
      // As a middleware does that parses forms.
      incoming
        .on("data", () => undefined)
        .on("end", () => {
          nodeListener(app.signIn, () => new Response())(incoming, outgoing);
        });
    });
    await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
    const url = `http://localhost:${(server.address() as AddressInfo).port}/sign-in/out`;
    const answer = await fetch(url, {
      method: "POST",
      headers: { origin: app.origin },
      body: "everywhere=yes",
    });
    expect([answer.status, await answer.text()]).toEqual([
      500,
      expect.stringContaining("server.body-read-before"),
    ]);
    server.close();
  });

  it("changes nothing by HEAD, and is told which methods there are", async () => {
    const ask = async (method: string, path: string) => {
      const answer = await fetch(`${app.origin}/sign-in${path}`, { method, redirect: "manual" });
      return [answer.status, answer.headers.get("allow"), (await answer.text()).length];
    };
    expect(await ask("HEAD", "")).toEqual([200, null, 0]);
    expect(await ask("HEAD", "/to/quayside")).toEqual([200, null, 0]);
    expect(await ask("HEAD", "/session")).toEqual([200, null, 0]);
    expect((await ask("DELETE", "/session")).slice(0, 2)).toEqual([405, "GET, HEAD"]);
    expect((await ask("GET", "/out")).slice(0, 2)).toEqual([405, "POST"]);
  });

  it("begins no sign-in, and takes no answer, for a link that a browser fetches before anybody follows it", async () => {
    const ahead = { redirect: "manual", headers: { "sec-purpose": "prefetch;prerender" } } as const;
    const inOlder = { ...ahead, headers: { purpose: "prefetch" } };
    for (const path of [
      "/to/quayside",
      "/from/quayside?code=c&state=s",
      "/out/done",
      "/session",
      "/accounts",
      "/keys",
    ]) {
      expect((await fetch(`${app.origin}/sign-in${path}`, inOlder)).status).toBe(503);
      const answer = await fetch(`${app.origin}/sign-in${path}`, ahead);
      expect([answer.status, answer.headers.getSetCookie(), answer.headers.get("cache-control")]).toEqual([
        503,
        [],
        "no-store",
      ]);
    }
    expect((await fetch(`${app.origin}/sign-in`, ahead)).status).toBe(200);
  });
});
