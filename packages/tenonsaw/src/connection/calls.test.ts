import { describe, expect, it, vi } from "vitest";
import { createFakeWorld, noon } from "../../../../tests/support/fake-world.js";
import { isProblem } from "../problem/index.js";
import { createTools, type TraceEvent } from "../trace/index.js";
import { reportAnswer } from "./authorised-fetch.js";
import { boundsOf, isBelow } from "./api-address.js";
import { followWithin } from "./follow-within.js";
import { fetchWithGrant } from "./index.js";

const origin = "https://tidebook.example";
const base = `${origin}/fhir/r4`;

describe("an address below a base", () => {
  it.each([
    ["is the base itself", base, true],
    ["is a path under it", `${base}/Patient/7?_id=1`, true],
    ["is a path under it, with plain dots in it", `${base}/a.b`, true],
    ["only begins alike", `${origin}/fhir/r4x/Patient`, false],
    ["is above it", `${origin}/fhir`, false],
    ["leaves it by dots", `${base}/../r3/Patient`, false],
    ["leaves it by dots in disguise", `${base}/%2e%2e/r3`, false],
    ["has a slash in disguise", `${base}/Patient%2F7`, false],
    ["has a back slash in disguise", `${base}/Patient%5c7`, false],
    ["is of another origin", "https://evil.example/fhir/r4/Patient", false],
    ["is of another scheme", base.replace("https", "http"), false],
    ["has a user", base.replace("https://", "https://a@"), false],
    ["has a password", base.replace("https://", "https://:b@"), false],
  ])("%s: %s is %s", (_, url, isSo) => {
    expect(isBelow(base, new URL(url))).toBe(isSo);
  });

  it("may be anything where the base is the whole origin", () => {
    expect(isBelow(`${origin}/`, new URL(`${origin}/anything`))).toBe(true);
  });
});

describe("a redirect of an API", () => {
  it("is followed without holding on to its own body", async () => {
    const ends: string[] = [];
    const body = () => new ReadableStream({ cancel: () => void ends.push("let go of") });
    const send = (url: string) =>
      Promise.resolve(
        url === base
          ? new Response(body(), { status: 302, headers: { location: `${base}/there` } })
          : new Response(body()),
      );
    expect((await followWithin(base, {}, send)).status).toBe(200);
    expect(ends).toEqual(["let go of"]);
  });

  /** What is asked for, where the first answer is a redirect. */
  async function asked(status: number, location: string, init: RequestInit = {}, under?: string) {
    const requests: string[] = [];
    const send = (url: string, { method = "GET", body, headers }: RequestInit) => {
      const type = new Headers(headers).get("content-type");
      requests.push(`${method} ${url} ${body === undefined ? "" : "with body"}${type ?? ""}`.trim());
      const answer = new Response(null, { status, headers: { location } });
      return Promise.resolve(requests.length === 1 ? answer : new Response("there"));
    };
    const answer = await followWithin(`${base}/a`, init, send, boundsOf({ base: under })?.holds);
    return { requests: requests.slice(1), status: answer.status };
  }
  const post = { method: "POST", body: "x", headers: { "content-type": "text/plain" } };

  it.each<[number, string, RequestInit, string[]]>([
    [302, "b", {}, [`GET ${base}/b`]],
    [301, "b", post, [`GET ${base}/b`]],
    [303, "b", { ...post, method: "PUT" }, [`GET ${base}/b`]],
    [303, "b", { method: "HEAD" }, [`HEAD ${base}/b`]],
    [302, "b", { ...post, method: "PUT" }, [`PUT ${base}/b with bodytext/plain`]],
    [307, "b", post, [`POST ${base}/b with bodytext/plain`]],
    [308, "b", { ...post, body: new ReadableStream() }, []],
    [302, "https://evil.example/", {}, []],
    [302, "http://", {}, []],
    [304, "b", {}, []],
    [302, "b", { redirect: "manual" }, []],
  ])("%s to %s, of %o, asks for %j", async (status, location, init, requests) => {
    const { requests: made, status: ended } = await asked(status, location, init);
    expect(made).toEqual(requests);
    expect(ended).toBe(requests.length > 0 ? 200 : status);
  });

  it("leads nowhere but below the base, where there is one", async () => {
    expect((await asked(302, `${origin}/other`, {}, base)).requests).toEqual([]);
    expect((await asked(302, `${base}/b`, {}, base)).requests).toEqual([`GET ${base}/b`]);
  });

  it("is followed five times", async () => {
    let count = 0;
    const send = () => {
      count += 1;
      return Promise.resolve(new Response(null, { status: 302, headers: { location: "/again" } }));
    };
    expect((await followWithin(origin, {}, send)).status).toBe(302);
    expect(count).toBe(6);
  });
});

describe("an API's answer", () => {
  it.each([
    [200, undefined],
    [400, undefined],
    [401, "token-refused"],
    [403, "forbidden"],
    [404, undefined],
    [429, "busy"],
    [499, undefined],
    [500, "out-of-order"],
    [503, "out-of-order"],
  ])("of status %s is a line in the log by its cause: %s", (status, because) => {
    const told: string[] = [];
    const report = (error: unknown, what: string) => {
      if (isProblem(error)) told.push(`${error.problem.received} ${what} ${error.problem.because}`);
    };
    const headers = { "retry-after": "7", "www-authenticate": "Bearer" };
    reportAnswer(
      { ...createTools(), report },
      { name: "tidebook", provider: "quayside", origin },
      { method: "PUT" },
      new Response(null, { status, headers }),
    );
    const line = `status ${status} from tidebook, www-authenticate "Bearer", retry-after "7" PUT at ${origin} ${because}`;
    expect(told).toEqual(because === undefined ? [] : [line]);
  });

  it("that does not come is told, where nothing can be loaded any more as well", async () => {
    const world = createFakeWorld();
    const error = new TypeError("fetch failed");
    world.answers.set(`${origin}/tides`, () => Promise.reject(error));
    const told: unknown[] = [];
    const tools = {
      ...createTools({ platform: world.platform }),
      report: (...what: unknown[]) => told.push(what),
    };
    vi.doMock("./no-answer.js", () => {
      throw new TypeError("Failed to fetch dynamically imported module");
    });
    const calling = fetchWithGrant({ tools }, { accessToken: "at" }, `${origin}/tides`);
    await expect(calling).rejects.toThrow(/fetch failed/);
    vi.doUnmock("./no-answer.js");
    expect(told).toEqual([[expect.any(TypeError), `GET at ${origin}`]]);
  });

  it("is a leg of the trace, without what is secret", async () => {
    const world = createFakeWorld();
    const events: TraceEvent[] = [];
    const tools = createTools({ platform: world.platform, trace: (event) => events.push(event) });
    world.answers.set(`${origin}/tides?code=s3cr3t`, new Response("high water", { status: 203 }));
    const grant = { issuer: "x", clientId: "y", accessToken: "s3cr3t", scope: "", obtainedAt: noon };
    expect(await (await fetchWithGrant({ tools }, grant, `${origin}/tides?code=s3cr3t`)).text()).toBe(
      "high water",
    );
    expect(events).toMatchObject([{ kind: "leg", leg: "API request", method: "GET", status: 203 }]);
    expect(JSON.stringify(events)).not.toContain("s3cr3t");
  });
});
