import { beforeEach, describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
  openFakeProvider,
  problemOf,
  type FakeWorld,
} from "../../../../tests/support/fake-world.js";
import type { ProblemError } from "../problem/index.js";
import { createLeases, createMachineFetch, type MachineFetch } from "./index.js";

const api = {
  name: "slipway",
  provider: "quayside",
  origin: "https://slipway.example",
  clientScope: "slipway.status",
};
let world: FakeWorld;
let machine: MachineFetch;
let asked: URLSearchParams[];

beforeEach(async () => {
  world = createFakeWorld();
  asked = [];
  const provider = await openFakeProvider(world, [], { audience: "slipway" });
  machine = createMachineFetch(provider.tools, createLeases(world.platform), async () => provider);
  world.answers.set(`${issuer}/token`, (_, { body }) => {
    asked.push(new URLSearchParams(body as string));
    return Response.json({ access_token: `mt-${asked.length}`, token_type: "Bearer", expires_in: 30 });
  });
  answerWith(() => 200);
});
const answerWith = (status: (authorization: string) => number) =>
  world.answers.set(`${api.origin}/status`, (_, { headers }) => {
    const authorization = new Headers(headers).get("authorization") ?? "";
    return Response.json({ authorization }, { status: status(authorization) });
  });
const call = async () => (await machine.fetch(api, "/status")).json() as Promise<{ authorization: string }>;

describe("machine fetch", () => {
  it("asks for a token of the app's own, once for all calls, and keeps it while it is good", async () => {
    const answers = await Promise.all(Array.from({ length: 10 }, call));
    expect(new Set(answers.map(({ authorization }) => authorization))).toEqual(new Set(["Bearer mt-1"]));
    expect(asked.map(Object.fromEntries)).toEqual([
      { grant_type: "client_credentials", scope: "slipway.status", audience: "slipway" },
    ]);
    expect((await call()).authorization).toBe("Bearer mt-1");
    world.now += 25;
    expect((await call()).authorization).toBe("Bearer mt-2");
  });

  it("asks once more when the API refuses the token, and then leaves it at that", async () => {
    await call();
    answerWith((authorization) => (authorization === "Bearer mt-1" ? 401 : 200));
    expect((await call()).authorization).toBe("Bearer mt-2");
    answerWith(() => 401);
    expect((await machine.fetch(api, "/status")).status).toBe(401);
    expect(asked).toHaveLength(3);
    // An API that refuses a new token as well is not given another one for every call.
    expect((await machine.fetch(api, "/status")).status).toBe(401);
    expect(asked).toHaveLength(3);
  });

  it("tells of answers that are failures, and of no others", async () => {
    const provider = await openFakeProvider(world, []);
    const told: string[] = [];
    const report = (problem: unknown, where: string) =>
      told.push(`${where}: ${String((problem as ProblemError).problem.received)}`);
    const telling = createMachineFetch(
      { ...provider.tools, report },
      createLeases(world.platform),
      async () => provider,
    );
    for (const status of [200, 302, 400, 401, 402, 403, 404, 428, 429, 430, 499, 500, 503]) {
      answerWith(() => status);
      expect((await telling.fetch(api, "/status")).status).toBe(status);
    }
    expect(told).toEqual(
      [401, 403, 429, 500, 503].map(
        (status) => `GET at https://slipway.example: status ${status} from slipway`,
      ),
    );
  });

  it("sends the token nowhere else, and does not act without being allowed to", async () => {
    const away = await problemOf(() => machine.fetch(api, "https://evil.example/status"));
    expect(away.code).toBe("connection.other-origin");
    const { clientScope: _none, ...bare } = api;
    expect((await problemOf(() => machine.fetch(bare, "/status"))).code).toBe("connection.no-client-scope");
    expect(asked).toEqual([]);
  });
});
