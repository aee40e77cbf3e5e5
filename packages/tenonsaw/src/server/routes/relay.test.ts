import { setFlagsFromString } from "node:v8";
import { runInNewContext } from "node:vm";
import { gzipSync } from "node:zlib";
import { createServer, request as send, type IncomingMessage, type ServerResponse } from "node:http";
import { once } from "node:events";
import type { AddressInfo } from "node:net";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createPipedFetch } from "tenonsaw/node";
import { createPlatform } from "tenonsaw/platform";
import { createVisitor, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import type { Problem } from "../../problem/index.js";
import { startApp, type App } from "../../../../../tests/support/start-app.js";
import { relayedMethods, isRelayRule } from "../settings/relay-rules.js";

let practice: Practice;
let visitor: Visitor;
let upstream: { readonly origin: string; stop(): Promise<unknown> };
const problems: Problem[] = [];
/** What the API does with the next request. */
let answer: (incoming: IncomingMessage, outgoing: ServerResponse) => void;

beforeAll(async () => {
  practice = await startPractice();
  const server = createServer((incoming, outgoing) => answer(incoming, outgoing));
  await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
  upstream = {
    origin: `http://localhost:${(server.address() as AddressInfo).port}`,
    stop: () => {
      server.closeAllConnections();
      return new Promise((resolve) => server.close(resolve));
    },
  };
});
afterAll(async () => {
  await upstream.stop();
  await practice.stop();
});

const own = { "sec-fetch-site": "same-origin", "sec-fetch-dest": "empty" };
const cookieOf = () =>
  [...(visitor.cookies.get("localhost") ?? [])].map(([name, value]) => `${name}=${value}`).join("; ");
const problemIn = async (response: Response) => {
  // A page tells it from an API's own answer by this.
  expect(response.headers.get("tenonsaw-problem")).toMatch(/^[a-z0-9]+\.[a-z-]+$/);
  expect(response.headers.get("content-type")).toBe("application/problem+json");
  return (await response.json()) as { code: string; status: number; ways: object; detail?: string };
};

describe.each([
  ["the platform's own fetch", fetch],
  ["a fetch that pipes", createPipedFetch()],
])("the relay, by %s", (_, fetching) => {
  let app: App;
  const call = (path: string, init: RequestInit = {}) =>
    fetch(`${app.origin}/sign-in/relay${path}`, {
      redirect: "manual",
      ...init,
      headers: { cookie: cookieOf(), ...own, ...(init.headers as Record<string, string>) },
    });

  beforeAll(async () => {
    app = await startApp(practice, {
      development: true,
      onProblem: ({ problem }) => problems.push(problem),
      apis: {
        tidebook: { provider: "quayside", origin: practice.tidebook, relay: ["/tides/*"] },
        log: { provider: "quayside", origin: upstream.origin, relay: ["/**", "PUT,POST /**"] },
        boats: { provider: "quayside", origin: upstream.origin },
      },
      platform: createPlatform({ fetch: fetching, print: () => undefined }),
    });
    visitor = createVisitor();
    await visitor.open(`${app.origin}/tides`);
    await visitor.press("Sign in with Quayside ID");
    await visitor.press("Maren");
    await visitor.press("Yes, allow");
  });
  afterAll(() => app.stop());

  it("lets no API pass its answer off as this app's own", async () => {
    answer = (_, outgoing) => {
      outgoing.setHeader("tenonsaw-problem", "connection.none");
      outgoing.statusCode = 403;
      outgoing.end(JSON.stringify({ code: "connection.none", ask: { provider: "evil" } }));
    };
    const passed = await call("/log/entries");
    expect([passed.status, passed.headers.get("tenonsaw-problem")]).toEqual([403, null]);
  });

  it.each([
    [undefined, "no-store"],
    ["max-age=60", "private, no-cache"],
    ["", "private, no-cache"],
    ["no-store", "no-store"],
    ["public, max-age=60", "private, no-cache"],
    ["s-maxage=60, immutable", "private, no-cache"],
  ])("lets no cache give again what an API said to one person, unasked: %s", async (said, passed) => {
    answer = (_, outgoing) => {
      if (said !== undefined) outgoing.setHeader("cache-control", said);
      outgoing.end("tides");
    };
    const { headers } = await call("/log/entries");
    expect(headers.get("cache-control")).toBe(passed);
    // Nor to whoever is signed in next in the same browser, for another account or launch, nor to a script tag.
    expect(headers.get("vary")).toBe(
      "cookie, tenonsaw-launch, tenonsaw-person, tenonsaw-account, sec-fetch-dest, sec-fetch-mode",
    );
  });

  it("tells a page what to change while it is developed, and later no more than what is about its request", async () => {
    const tidebook = { provider: "quayside", origin: practice.tidebook, relay: ["/tides/*"] };
    for (const development of [true, false]) {
      const made = await startApp(practice, { development, apis: { tidebook } });
      const path = `${made.origin}/sign-in/relay/tidebook/tides/today`;
      const told = await problemIn(await fetch(path, { headers: own }));
      expect(told).toMatchObject({ code: "session.not-signed-in" });
      const names = ["detail", "expected", "here"].filter((name) => name in told);
      expect(names).toEqual(development ? ["detail", "expected", "here"] : []);
      await made.stop();
    }
  });

  it("calls a declared API with the person's token, which the page never has", async () => {
    const tides = await call("/tidebook/tides/today");
    expect(await tides.json()).toMatchObject({ place: "Ferrywell landing" });
    expect(tides.headers.get("set-cookie")).toBe(null);
    answer = (incoming, outgoing) => {
      outgoing.setHeader("set-cookie", "log=1");
      outgoing.setHeader("access-control-allow-origin", "*");
      outgoing.setHeader("strict-transport-security", "max-age=1");
      outgoing.setHeader("content-type", "text/html");
      outgoing.setHeader("etag", '"7"');
      outgoing.end(JSON.stringify({ headers: incoming.headers, url: incoming.url }));
    };
    const sent = {
      authorization: "Bearer mine",
      "x-forwarded-for": "192.0.2.1",
      "x-forwarded-host": "evil.example",
      te: "trailers",
      "if-none-match": '"7"',
      accept: "text/plain",
    };
    const echoed = await call("/log/entries?from=1&to=%2F", { headers: sent });
    const { headers, url } = (await echoed.json()) as { headers: Record<string, string>; url: string };
    expect(url).toBe("/entries?from=1&to=%2F");
    expect(headers).toMatchObject({ accept: "text/plain", "if-none-match": '"7"' });
    expect(headers["authorization"]).toMatch(/^Bearer eyJ/);
    for (const name of ["cookie", "x-forwarded-for", "x-forwarded-host", "te", "origin", "referer"])
      expect(headers[name], name).toBeUndefined();
    expect(headers["host"]).toBe(new URL(upstream.origin).host);
    expect(Object.fromEntries(echoed.headers)).toMatchObject({
      etag: '"7"',
      "content-security-policy": "default-src 'none'; sandbox",
      "x-content-type-options": "nosniff",
    });
    for (const name of ["set-cookie", "access-control-allow-origin", "strict-transport-security"])
      expect(echoed.headers.get(name), name).toBe(null);
  });

  it("says in development which of a page's headers it leaves behind", async () => {
    answer = (_incoming, outgoing) => void outgoing.end();
    const headers = { "x-club": "hush", "x-forwarded-for": "10.0.0.1", accept: "text/plain" };
    await call("/log/x", { headers });
    expect(problems.at(-1)).toMatchObject({ code: "server.relay-header-unsent", received: '"x-club"' });
    const told = problems.length;
    const { "x-club": _left, ...others } = headers;
    await call("/log/x", { headers: others });
    expect(problems).toHaveLength(told);
  });

  it.each<[string, string, RequestInit, string, number]>([
    ["an API that there is not", "/nothing/x", {}, "connection.api-unknown", 404],
    ["an API by the name of something else", "/toString/x", {}, "connection.api-unknown", 404],
    ["an API that pages may not call", "/boats/x", {}, "server.relay-refused", 403],
    ["a path that is not declared", "/tidebook/other", {}, "server.relay-refused", 403],
    ["more of a path than is declared", "/tidebook/tides/today/x", {}, "server.relay-refused", 403],
    ["a method that is not declared", "/log/x", { method: "DELETE" }, "server.relay-refused", 403],
    ["another site", "/log/x", { headers: { "sec-fetch-site": "cross-site" } }, "session.other-origin", 403],
    ["a neighbour", "/log/x", { headers: { "sec-fetch-site": "same-site" } }, "session.other-origin", 403],
    [
      "another origin",
      "/log/x",
      { method: "POST", headers: { origin: "https://elsewhere.example" } },
      "session.other-origin",
      403,
    ],
    ["a link", "/log/x", { headers: { "sec-fetch-dest": "document" } }, "session.other-origin", 403],
    [
      "a form",
      "/log/x",
      { method: "POST", headers: { "sec-fetch-dest": "iframe", "tenonsaw-relay": "1" } },
      "session.other-origin",
      403,
    ],
    ["nobody", "/log/x", { headers: { cookie: "" } }, "session.not-signed-in", 401],
    [
      "a header without end",
      "/log/x",
      { headers: { accept: "a".repeat(4097) } },
      "server.request-too-large",
      431,
    ],
  ])("refuses %s", async (_, path, init, code, status) => {
    let calls = 0;
    answer = (_incoming, outgoing) => {
      calls += 1;
      outgoing.end();
    };
    const refused = await call(path, init);
    const problem = await problemIn(refused);
    expect([problem.code, problem.status, refused.status]).toEqual([code, status, status]);
    expect(problem.ways).toEqual(code === "session.not-signed-in" ? { signIn: "/sign-in" } : {});
    expect(calls).toBe(0);
  });

  it.each([
    "/tidebook/../log/x",
    "/tidebook/%2e%2e/x",
    "/log//evil.example/x",
    "/log/%2fx",
    "/log/a%5c..%5cb",
    "/log/a%00",
    "/log/a/..;/x",
    "/log/a/..;b=1/x",
    "/log/a/.%3B/x",
    "/log/%252e%252e/x",
    "/log/a%25252fx",
    "/log/%c0%ae%c0%ae/x",
    "/log/a%0d%0aset-cookie:x",
    "/log/a%7f",
    "/log/\\\\evil.example",
  ])("does not go astray by %s, as it is sent", async (path) => {
    const seen: (string | undefined)[] = [];
    answer = ({ url, headers }, outgoing) => {
      seen.push(url, headers.host);
      outgoing.end("reached");
    };
    const { hostname, port } = new URL(app.origin);
    const outgoing = send({
      hostname,
      port,
      path: `/sign-in/relay${path}`,
      headers: { cookie: cookieOf(), ...own },
    });
    outgoing.end();
    const [response] = (await once(outgoing, "response")) as [IncomingMessage];
    let text = "";
    for await (const part of response) text += String(part);
    // What a URL parser makes plain is judged as it is then; everything else is refused.
    if (response.statusCode === 200) expect(seen).toEqual(["/x", new URL(upstream.origin).host]);
    else expect(text).toMatch(/server\.relay-refused|There is nothing|connection\.api-unknown|read/);
    if (text.includes("server.relay-refused")) {
      expect(problems.at(-1)).toMatchObject({ because: "odd-path" });
      expect(text).toContain('"because":"odd-path"');
    }
  });

  it("says what the page can do: ask for more scope, sign in with what the API takes", async () => {
    answer = (_incoming, outgoing) => {
      outgoing.writeHead(403, {
        "www-authenticate": 'Bearer error="insufficient_scope", scope="tides.write"',
      });
      outgoing.end();
    };
    const { code, ways } = await problemIn(await call("/log/x"));
    expect(code).toBe("connection.scope-insufficient");
    expect(ways).toEqual({ ask: "/sign-in/to/quayside?scope=tides.write" });
  });

  it("passes on what an API says of itself: failures, HTML, redirects within it; and none to elsewhere", async () => {
    answer = (_incoming, outgoing) =>
      outgoing.writeHead(500, { "content-type": "text/html" }).end("<h1>Oh</h1>");
    const failed = await call("/log/x");
    expect([failed.status, await failed.text()]).toEqual([500, "<h1>Oh</h1>"]);
    // RFC 9110 section 15: what is no status of HTTP's counts as one of a server that failed.
    answer = (_incoming, outgoing) => outgoing.writeHead(999).end("odd");
    const odd = await call("/log/x");
    expect([odd.status, await odd.text()]).toEqual([502, "odd"]);
    let hops = 0;
    answer = (_incoming, outgoing) => {
      hops += 1;
      outgoing.writeHead(302, { location: "/again" }).end();
    };
    expect((await call("/log/x")).status).toBe(302);
    expect(hops).toBeLessThan(25);
    answer = (_incoming, outgoing) =>
      outgoing.writeHead(302, { location: "https://elsewhere.example/" }).end();
    const away = await call("/log/x");
    expect([away.status, away.headers.get("location")]).toEqual([302, null]);
    answer = (incoming) => incoming.socket.destroy();
    const before = problems.length;
    expect(await problemIn(await call("/log/x"))).toMatchObject({
      code: "connection.api-failed",
      status: 502,
    });
    // Once, and with what happened.
    expect(problems.slice(before)).toMatchObject([
      {
        because: "no-answer",
        received: expect.stringMatching(/^no answer from \S+: "(UND_ERR_SOCKET|ECONNRESET)"$/) as string,
      },
    ]);
  });

  it("breaks off an answer that breaks off, and says so", async () => {
    answer = (_, outgoing) => {
      outgoing.writeHead(200, { "content-length": 9 });
      outgoing.write("high", () => setTimeout(() => outgoing.destroy(), 20));
    };
    const before = problems.length;
    await expect(call("/log/x").then((cut) => cut.text())).rejects.toThrow();
    await expect.poll(() => problems.slice(before)).toMatchObject([{ code: "server.answer-cut" }]);
  });

  it("says how long an answer is that was not packed, also to who asks for its head alone", async () => {
    answer = (incoming, outgoing) => {
      const text = Buffer.from("Heron, Kingfisher");
      const isPacked = incoming.url === "/packed";
      const content = isPacked ? gzipSync(text) : text;
      outgoing.writeHead(200, {
        "content-length": content.length,
        ...(isPacked && { "content-encoding": "gzip" }),
      });
      outgoing.end(incoming.method === "HEAD" ? undefined : content);
    };
    const lengthOf = async (path: string, method = "GET") => {
      const passed = await call(path, { method });
      return [passed.headers.get("content-length"), await passed.text()];
    };
    expect(await lengthOf("/log/boats")).toEqual(["17", "Heron, Kingfisher"]);
    expect(await lengthOf("/log/boats", "HEAD")).toEqual(["17", ""]);
    expect(await lengthOf("/log/packed")).toEqual([null, "Heron, Kingfisher"]);
  });

  it("streams an upload of 100 MB, no faster than the API takes it, and keeps none of it", async () => {
    const collect = openCollector();
    const held: number[] = [];
    let [sent, received, ahead] = [0, 0, 0];
    answer = (incoming, outgoing) => {
      incoming.on("data", (chunk: Buffer) => {
        received += chunk.length;
        ahead = Math.max(ahead, sent - received / 2 ** 20);
      });
      incoming.on("end", () => outgoing.end(String(received)));
    };
    const body = new ReadableStream<Uint8Array>({
      pull(controller) {
        if (sent === 100) controller.close();
        else controller.enqueue(new Uint8Array(2 ** 20));
        sent += 1;
        if (sent % 25 > 0) return;
        collect();
        held.push(process.memoryUsage().arrayBuffers / 2 ** 20);
      },
    });
    // Of this call too nothing is kept: its own redirects would want it again.
    const once = { method: "PUT", body, duplex: "half", redirect: "error", window: null } as RequestInit;
    expect(await (await call("/log/upload", once)).text()).toBe(String(100 * 2 ** 20));
    // Megabytes on their way at once: never the whole of it.
    expect(ahead).toBeLessThan(30);
    // What is on its way stays as much, and what is kept would grow by 75.
    expect(held).toHaveLength(4);
    expect(held[3]! - held[0]!).toBeLessThan(40);
  });

  it("says of a redirect that it wants a streamed body again, which is kept nowhere", async () => {
    answer = (incoming, outgoing) => {
      incoming.resume();
      outgoing.writeHead(307, { location: "/elsewhere" }).end();
    };
    const init = { method: "PUT", body: "Heron", redirect: "manual" } as const;
    // What pipes hands the redirect over; the platform's own cannot without keeping the body.
    const isPiped = fetching !== fetch;
    expect((await call("/log/upload", init)).status).toBe(isPiped ? 307 : 502);
    expect(problems.at(-1)?.because).toBe(isPiped ? "redirect" : "redirect-of-stream");
  });

  it("lets events flow as they come, and ends the call when the page goes away", async () => {
    let isGone: () => void = () => undefined;
    const gone = new Promise<void>((resolve) => (isGone = resolve));
    answer = (incoming, outgoing) => {
      outgoing.writeHead(200, { "content-type": "text/event-stream" });
      outgoing.write("data: one\n\n");
      incoming.on("close", isGone);
    };
    const leaving = new AbortController();
    const events = await call("/log/events", { signal: leaving.signal });
    expect(events.headers.get("content-type")).toBe("text/event-stream");
    const reader = events.body!.getReader();
    expect(new TextDecoder().decode((await reader.read()).value)).toBe("data: one\n\n");
    leaving.abort();
    await gone;
    await expect(reader.read()).rejects.toThrow();
  });

  it("calls nobody for a page that has gone before its call goes on", async () => {
    let isAsked = false;
    answer = (_, outgoing) => {
      isAsked = true;
      outgoing.end("read");
    };
    const asked = new Request(`${app.origin}/sign-in/relay/log/entries`, {
      headers: { cookie: cookieOf(), ...own },
      signal: AbortSignal.abort(),
    });
    await app.signIn.handle(asked).catch(() => undefined);
    expect(isAsked).toBe(false);
  });

  it("refuses a body that says that it is too large, before any of it goes on", async () => {
    answer = (_incoming, outgoing) => outgoing.end("read");
    const { hostname, port } = new URL(app.origin);
    const headers = { cookie: cookieOf(), ...own, "content-length": "999999999" };
    const outgoing = send({ hostname, port, path: "/sign-in/relay/log/x", method: "PUT", headers });
    outgoing.on("error", () => undefined);
    outgoing.flushHeaders();
    const [response] = (await once(outgoing, "response")) as [IncomingMessage];
    expect(response.statusCode).toBe(413);
    outgoing.destroy();
  });
});

describe("the relay's patience", () => {
  it("ends with an API that never begins to answer, and with a body that does not say how long it is", async () => {
    // The deadline for the beginning of an answer comes when this says so.
    const deadlines: AbortController[] = [];
    const endTheWait = () => deadlines.at(-1)?.abort(new DOMException("Late", "TimeoutError"));
    const told: Problem[] = [];
    const impatient = await startApp(practice, {
      onProblem: ({ problem }) => told.push(problem),
      apis: { log: { provider: "quayside", origin: upstream.origin, relay: ["/**", "PUT /**"] } },
      platform: createPlatform({
        print: () => undefined,
        deadline: (seconds) => {
          if (seconds < 30) return AbortSignal.timeout(seconds * 1000);
          deadlines.push(new AbortController());
          return deadlines.at(-1)!.signal;
        },
      }),
    });
    const member = createVisitor();
    await member.open(`${impatient.origin}/sign-in/to/quayside`);
    await member.press("Maren");
    if (member.page?.text.includes("Yes, allow")) await member.press("Yes, allow");
    const cookie = `tenonsaw-session=${member.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
    const at = `${impatient.origin}/sign-in/relay/log/x`;
    const part = new Uint8Array(8 * 1024 * 1024);
    answer = (incoming, outgoing) => void incoming.resume().on("end", () => outgoing.end());
    let sent = 0;
    const body = new ReadableStream<Uint8Array>({
      pull: (controller) => {
        if ((sent += 1) > 40) controller.close();
        else controller.enqueue(part);
      },
    });
    const endless = { method: "PUT", body, duplex: "half", headers: { cookie, ...own } } as RequestInit;
    const refused = await fetch(at, endless).then(problemIn, () => undefined);
    // Whoever sends on may find the door closed before the answer is read.
    if (refused) expect(refused).toMatchObject({ code: "server.body-too-large", status: 413 });
    expect(sent).toBeLessThan(41);
    // What has begun goes on for as long as it likes.
    let goOn: () => void = () => undefined;
    answer = (_, outgoing) => {
      outgoing.write("begun, ");
      goOn = () => outgoing.end("ended");
    };
    const slow = await fetch(at, { headers: { cookie, ...own } });
    endTheWait();
    goOn();
    expect(await slow.text()).toBe("begun, ended");
    answer = endTheWait;
    const late = await fetch(at, { headers: { cookie, ...own } });
    expect(await problemIn(late)).toMatchObject({ code: "connection.api-failed", status: 502 });
    expect(told.at(-1)).toMatchObject({
      because: "late",
      received: "no beginning of an answer from log within 30 s",
    });
    await impatient.stop();
  });
});

describe("the rules of the relay", () => {
  it.each<[string, boolean]>([
    ["/tides/*", true],
    ["POST,DELETE /slots/*", true],
    ["/**", true],
    ["/", true],
    ["tides", false],
    ["/a/**/b", false],
    ["/a*", false],
    ["/a/../b", false],
    ["post /a", false],
    ["GET  /a", false],
    ["/a?b", false],
    ["/a%2fb", false],
  ])("%s: %s", (rule, isRule) => {
    expect(isRelayRule(rule)).toBe(isRule);
  });

  it("allow a part for a star, and what follows for two", () => {
    const rules = ["/tides/*", "POST /slots/*/book", "PUT /files/**"];
    expect(relayedMethods(rules, "/tides/today")).toEqual(["GET", "HEAD"]);
    expect(relayedMethods(rules, "/tides/")).toEqual([]);
    expect(relayedMethods(rules, "/tides")).toEqual([]);
    expect(relayedMethods(rules, "/slots/7/book")).toEqual(["POST"]);
    expect(relayedMethods(rules, "/files/a/b/c")).toEqual(["PUT"]);
    expect(relayedMethods(rules, "/files/a/../../tides")).toEqual([]);
    expect(relayedMethods(rules, "/files/a%2F..%2Fb")).toEqual([]);
    expect(relayedMethods(rules, "/files/a;v=1/b..;c/...;d/100%25/%E2%82%AC")).toEqual(["PUT"]);
  });
});

/** What collects all that nobody holds any more, at once. */
function openCollector(): () => void {
  setFlagsFromString("--expose-gc");
  return runInNewContext("gc") as () => void;
}
