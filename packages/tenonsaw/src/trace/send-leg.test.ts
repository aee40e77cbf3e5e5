import { once } from "node:events";
import { Worker } from "node:worker_threads";
import { describe, expect, it, vi } from "vitest";
import { createPlatform } from "tenonsaw/platform";
import { createFakeWorld, problemOf, type FakeAnswer } from "../../../../tests/support/fake-world.js";
import { inTime } from "./ask-app.js";
import { heeding } from "./heeding.js";
import type { TraceEvent } from "./event.js";
import { sendLeg } from "./send-leg.js";
import { note } from "./tools.js";

const url = "https://id.quayside.example/token";

function send(answer: FakeAnswer, target = url, timeoutSeconds = 5) {
  const world = createFakeWorld();
  world.answers.set(target, answer);
  const leg = { station: "grant", leg: "token request", url: target, timeoutSeconds };
  return {
    world,
    result: sendLeg({ platform: world.platform, trace: (event) => world.events.push(event) }, leg),
  };
}

describe("sendLeg", () => {
  const endless = () =>
    new Response(
      new ReadableStream({
        pull: (controller) => controller.enqueue(new Uint8Array(256 * 1024)),
      }),
    );
  const silent: FakeAnswer = (_, { signal }) =>
    new Promise((_resolve, reject) => {
      signal?.addEventListener("abort", () => reject(signal.reason as Error));
    });

  it.each<[string, FakeAnswer, string, string]>([
    [
      "a redirect",
      new Response(null, { status: 302, headers: { location: "https://evil.example/?code=c0de" } }),
      "platform.redirected",
      "302",
    ],
    [
      "a permanent redirect without an address",
      new Response(null, { status: 308 }),
      "platform.redirected",
      "308",
    ],
    ["an answer without end", endless, "platform.answer-too-large", "1048576"],
    ["silence", silent, "platform.too-slow", "0.05 s"],
    [
      "silence of a fetch that hears no signal",
      () => new Promise(() => undefined),
      "platform.too-slow",
      "0.05 s",
    ],
    [
      "a body of such a fetch that stops",
      () => new Response(new ReadableStream()),
      "platform.too-slow",
      "an answer with status 200 that did not end within 0.05 s",
    ],
    [
      "a redirect that somebody's own fetch has followed",
      () =>
        Object.defineProperties(Response.json({}), {
          redirected: { value: true },
          url: { value: "https://evil.example/?code=c0de" },
        }),
      "platform.redirected",
      "evil.example",
    ],
    [
      "a refused connection",
      new TypeError("fetch failed", { cause: Object.assign(new Error("x"), { code: "ECONNREFUSED" }) }),
      "platform.unreachable",
      "ECONNREFUSED",
    ],
  ])("gives up on %s", async (_, answer, code, received) => {
    const problem = await problemOf(() => send(answer, url, 0.05).result);
    expect(problem.code).toBe(code);
    expect(problem.received).toContain(received);
    expect(problem.received).not.toContain("c0de");
  });

  it.each<[string, (secret: string) => string]>([
    ["as it is", (secret) => `{"error":"invalid_grant","error_description":"no such token: ${secret}"}`],
    ["in JSON", (secret) => JSON.stringify({ error: "invalid_request", error_description: `<${secret}>` })],
    ["in a form", (secret) => new URLSearchParams({ error: "x", error_description: secret }).toString()],
    ["on a page", (secret) => `<p>${secret.replaceAll("&", "&amp;").replaceAll('"', "&quot;")}</p>`],
  ])("tells nothing of a secret that an error repeats %s, anywhere", async (_, echo) => {
    const sent = {
      code: "c0de-of-the-way",
      code_verifier: "ver1fier&more",
      refresh_token: 'r3fresh"token',
      client_secret: "s3cret/of=ours",
      token: "t0ken-to-revoke",
    };
    const basic = btoa(`ferrywell:${encodeURIComponent("b4sic&secret")}`);
    const secrets = [...Object.values(sent), basic, "b4sic&secret"];
    const world = createFakeWorld();
    const answer = new Response(secrets.map(echo).join("\n"), {
      status: 400,
      headers: { "www-authenticate": `Basic realm="${basic}"` },
    });
    world.answers.set(url, answer);
    const events: unknown[] = [];
    const { text, headers } = await sendLeg(
      { platform: world.platform, trace: (event) => events.push(event) },
      {
        station: "grant",
        leg: "token request",
        url,
        timeoutSeconds: 5,
        headers: { authorization: `Basic ${basic}` },
        form: new URLSearchParams(sent),
      },
    );
    const told = text + JSON.stringify([...headers]) + JSON.stringify(events);
    for (const secret of secrets)
      for (const spelling of [secret, encodeURIComponent(secret), JSON.stringify(secret).slice(1, -1)])
        expect(told).not.toContain(spelling);
  });

  it("leaves a refresh token where it is that a provider grants again", async () => {
    const world = createFakeWorld();
    world.answers.set(url, Response.json({ access_token: "at", refresh_token: "the-same-one" }));
    const form = new URLSearchParams({ refresh_token: "the-same-one" });
    const leg = { station: "grant", leg: "token request", url, timeoutSeconds: 5, form };
    expect((await sendLeg({ platform: world.platform }, leg)).text).toContain("the-same-one");
  });

  it("asks no server that is neither https nor loopback", async () => {
    const { world, result } = send(Response.json({}), "http://id.quayside.example/token");
    expect((await problemOf(() => result)).code).toBe("platform.insecure-url");
    expect(world.requests).toHaveLength(0);
  });

  it("tells the trace what was sent and received, secrets by fingerprint", async () => {
    const world = createFakeWorld();
    world.answers.set(
      url,
      Response.json({ access_token: "at-secret", token_type: "Bearer", scope: "openid" }),
    );
    await sendLeg(
      { platform: world.platform, trace: (event) => world.events.push(event) },
      {
        station: "grant",
        leg: "token request",
        url,
        form: new URLSearchParams({
          grant_type: "authorization_code",
          code: "c0de",
          code_verifier: "ver1fier",
        }),
        headers: { authorization: "Basic c2VjcmV0" },
        timeoutSeconds: 5,
      },
    );
    expect(world.events).toMatchObject([
      {
        kind: "leg",
        method: "POST",
        status: 200,
        sent: { grant_type: "authorization_code", code: expect.stringMatching(/^#[0-9a-f]{8}$/) as string },
        received: { token_type: "Bearer", scope: "openid" },
      },
    ]);
    expect(JSON.stringify(world.events)).not.toMatch(/at-secret|c0de|ver1fier|c2VjcmV0/);
  });
});

it("reads what has come while the process stood still, before it says that nothing came in time", async () => {
  const platform = createPlatform();
  const server = new Worker(
    `require("node:http").createServer((_, outgoing) => setTimeout(() => outgoing.end("{}"), 100))
       .listen(0, "localhost", function () { require("node:worker_threads").parentPort.postMessage(this.address().port); });`,
    { eval: true },
  );
  const [port] = (await once(server, "message")) as [number];
  const at = `http://localhost:${port}/`;
  const leg = { station: "grant", leg: "token request", url: at, timeoutSeconds: 0.5 };
  const late = () => {
    throw new Error("late");
  };
  const asked = [sendLeg({ platform }, leg), inTime(platform, 0.5, fetch(at), late)];
  await platform.wait(0.05);
  await new Promise<void>((resolve) => {
    setImmediate(() => {
      const until = platform.monotonic() + 0.7;
      while (platform.monotonic() < until);
      resolve();
    });
  });
  expect((await Promise.all(asked)).map(({ status }) => status)).toEqual([200, 200]);
  await server.terminate();
});

it("keeps no timer of a deadline that was met", async () => {
  vi.useFakeTimers();
  const { deadline } = createPlatform();
  const signal = deadline(30);
  expect(await heeding(signal, Promise.resolve("met"))).toBe("met");
  await Promise.resolve();
  expect(vi.getTimerCount()).toBe(0);
  const late = heeding(deadline(30), new Promise(() => undefined));
  vi.advanceTimersByTime(30_000);
  await expect(late).rejects.toMatchObject({ name: "TimeoutError" });
  expect([signal.aborted, vi.getTimerCount()]).toEqual([false, 0]);
  vi.useRealTimers();
});

it("a note says what came from elsewhere in a way that acts on no terminal", () => {
  const world = createFakeWorld();
  const tools = { platform: world.platform, trace: (event: TraceEvent) => world.events.push(event) };
  note(tools, "server", "problem", { received: "Maren\u001b[2K\r\nadmin" });
  expect(world.events).toMatchObject([{ detail: { received: "Maren\\x1b[2K\\x0d\\x0aadmin" } }]);
});
