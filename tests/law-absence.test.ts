/** The law: what is absent, empty, inherited or odd opens nothing. The tables name every place that it governs. */
import type { InferOutput, ObjectEntries } from "valibot";
import { afterAll, beforeAll, describe, expect, expectTypeOf, it } from "vitest";
import { forExpress, guardForExpress } from "tenonsaw/express";
import { forFastify, guardForFastify } from "tenonsaw/fastify";
import { assessToken, openGuard, type CallNeeds, type Guard } from "tenonsaw/guard";
import { forHono, guardForHono } from "tenonsaw/hono";
import { forKoa, guardForKoa } from "tenonsaw/koa";
import { guardForNode } from "tenonsaw/node";
import { startPractice, type Practice } from "tenonsaw-practice";
import type { commonEntries, issuerEntries } from "../packages/tenonsaw/src/guard/settings.js";
import type { ResolvedCommon, ResolvedIssuer } from "../packages/tenonsaw/src/guard/settings-types.js";
import type { providerEntries, ResolvedProviderSettings } from "../packages/tenonsaw/src/provider/index.js";
import { startApp, type App } from "./support/start-app.js";

let practice: Practice;
let guard: Guard;
let app: App;
const audience = "https://tidebook.example";
beforeAll(async () => {
  practice = await startPractice({});
  guard = await openGuard({ issuer: practice.issuer, audience });
  app = await startApp(practice);
});
afterAll(async () => {
  await app.stop();
  await practice.stop();
});

const bearing = async () =>
  new Request(`${audience}/tides`, {
    headers: { authorization: `Bearer ${await practice.token({ audience, scope: "tides.read" })}` },
  });

class Wish {
  readonly scope = "tides.read";
}
const hidden = Object.defineProperty({}, "scope", { value: "tides.read", enumerable: false });
const inherited: unknown = Object.create({ scope: "tides.read" });
/** What may stand where needs are expected, and says nothing of what is required. */
const sayNothing: readonly (readonly [string, unknown, string])[] = [
  ["undefined", undefined, "needs"],
  ["null", null, "needs"],
  ["an empty object", {}, "needs"],
  ["an empty text", "", "needs"],
  ["a text", "tides.read", "needs"],
  ["false", false, "needs"],
  ["a list", [], "needs"],
  ["what every object inherits", Object.prototype, "needs"],
  ["an object that inherits its members", inherited, "needs"],
  ["an object whose members are hidden", hidden, "needs"],
  ["an object of a class", new Wish(), "needs"],
  ["a map", new Map([["scope", "tides.read"]]), "needs"],
  ["an error", new Error("none"), "needs"],
  ["a promise", Promise.resolve({ scope: "tides.read" }), "needs"],
  ["an empty scope", { scope: "" }, "needs.scope"],
  ["a blank scope", { scope: " " }, "needs.scope"],
  ["a scope that is not set", { scope: undefined }, "needs.scope"],
  ["a misspelt member", { scop: "tides.read" }, "needs.scop"],
  ["a misspelt member beside a good one", { scope: "tides.read", rol: "x" }, "needs.rol"],
  ["an age that is a text", { maxAge: "300" }, "needs.maxAge"],
];

describe("needs of an API", () => {
  const odd: readonly (readonly [string, unknown, string])[] = [
    ["a request, as routes call `takes` itself", { method: "GET", headers: {} }, "needs"],
    ["an empty list of roles", { role: [] }, "needs.role"],
    ["a list with a number in it", { scope: ["tides.read", 7] }, "needs.scope"],
    ["a role that is an object", { anyRole: { name: "harbour-master" } }, "needs.anyRole"],
    ["a claim that is no pointer", { claims: { tenant: "rowing-club" } }, "needs.claims.tenant"],
    ["claims that are inherited", { claims: Object.create({ "/tenant": "x" }) as object }, "needs.claims"],
  ];
  it.each([...sayNothing, ...odd])("let nobody in by %s, anywhere", async (_, said, path) => {
    const needs = said as CallNeeds;
    const request = await bearing();
    const refused = { problem: { code: "provider.settings-refused", findings: [{ path }] } };
    // Where a route is written, it is refused there, and not where somebody calls it.
    const written: Readonly<Record<string, () => unknown>> = {
      protect: () => guard.protect(() => new Response(), needs),
      express: () => guardForExpress(guard).takes(needs),
      fastify: () => guardForFastify(guard).takes(needs),
      koa: () => guardForKoa(guard).takes(needs),
      hono: () => guardForHono(guard).takes(needs),
      parts: () => guard.parts.needsOf(needs),
      assessToken: () => assessToken({ issuer: practice.issuer, audience }, "x", needs),
    };
    for (const [place, write] of Object.entries(written)) expect(write, place).toThrow(`at ${path}: `);
    const called: Readonly<Record<string, () => Promise<unknown>>> = {
      admit: () => guard.admit(request, needs),
      node: () => guardForNode(guard).admit({ headers: {} } as never, {} as never, needs),
      "a function that says it": () =>
        guard.protect(
          () => new Response(),
          () => needs,
        )(request),
      "one that says it later": () =>
        guard.protect(
          () => new Response(),
          async () => Promise.resolve(needs),
        )(request),
      "one that says it in Hono": () =>
        guardForHono(guard).takes(() => needs)({ req: { raw: request } } as never, null as never),
    };
    // A function is for routes; where an adapter of one's own hands one over, what it tells is read like any other.
    const { parts } = guard;
    const source = {
      method: "GET",
      url: "/",
      header: (name: string) => request.headers.get(name) ?? undefined,
    };
    const view = {
      ...source,
      certificate: () => undefined,
      form: () => Promise.resolve(new URLSearchParams()),
    };
    if (!(said instanceof Promise))
      await expect((async () => parts.admit(view, () => Promise.resolve(needs)))()).rejects.toMatchObject(
        refused,
      );
    await expect(guard.admit(request, (() => needs) as never)).rejects.toMatchObject({
      problem: { code: "provider.settings-refused", findings: [{ path: "needs" }] },
    });
    for (const [place, call] of Object.entries(called)) {
      // A promise that a function answers with is waited for, and what comes of it was written.
      if (said instanceof Promise && place.startsWith("one that")) continue;
      if (said instanceof Promise && place.startsWith("a function")) continue;
      await expect(call(), place).rejects.toMatchObject(refused);
    }
  });

  it("are what they were when they were read, however often they are looked at", async () => {
    const changing = { scope: "slots.write" };
    const route = guard.protect(() => new Response(), changing);
    changing.scope = "tides.read";
    expect((await route(await bearing())).status).toBe(403);
    let looks = 0;
    const lying = {
      get scope() {
        return looks++ === 0 ? "slots.write" : "tides.read";
      },
    };
    await expect(guard.admit(await bearing(), lying)).rejects.toHaveProperty("status", 403);
    expect(looks).toBe(1);
    const claims: Record<string, string> = { "/tenant": "rowing-club" };
    const byClaim = guard.protect(() => new Response(), { claims });
    delete claims["/tenant"];
    expect((await byClaim(await bearing())).status).toBe(403);
  });

  it("are nothing where somebody wrote so, and only the token is asked for", async () => {
    expect((await guard.admit(await bearing(), "any-caller")).kind).toBe("person");
    await expect(guard.admit(new Request(audience), "any-caller")).rejects.toHaveProperty("status", 401);
  });
});

describe("needs of a page", () => {
  const page = () => new Response();
  const places: Readonly<Record<string, (needs: never) => unknown>> = {
    signIn: (needs) => app.signIn.protect(page, needs),
    express: (needs) => forExpress(app.signIn).protect(page, needs),
    fastify: (needs) => forFastify(app.signIn).protect(page, needs),
    koa: (needs) => forKoa(app.signIn).protect(page, needs),
    hono: (needs) => forHono(app.signIn).protect(page, needs),
  };
  it.each(sayNothing)("are refused where they are %s", (_, said, path) => {
    for (const [place, write] of Object.entries(places))
      expect(() => write(said as never), place).toThrow(`at ${path}: `);
  });

  it("are left out by leaving them out", () => {
    expect(() => app.signIn.protect(page)).not.toThrow();
    expect(() => forHono(app.signIn).protect(page)).not.toThrow();
  });
});

/** Settings that are there whether anybody wrote them or not: those whose schema never gives undefined. */
type Filled<Entries extends ObjectEntries> = {
  readonly [Name in keyof Entries]: undefined extends InferOutput<Entries[Name]> ? never : Name;
}[keyof Entries];
type Required<Type> = {
  readonly [Name in keyof Type]-?: undefined extends Type[Name] ? never : Name;
}[keyof Type];

describe("a setting", () => {
  it("is said by its type to be there exactly where its schema fills it in: an empty one is not taken for one left out", () => {
    expectTypeOf<Required<ResolvedProviderSettings>>().toEqualTypeOf<Filled<typeof providerEntries>>();
    expectTypeOf<Required<ResolvedIssuer>>().toEqualTypeOf<Filled<typeof issuerEntries>>();
    expectTypeOf<Required<ResolvedCommon>>().toEqualTypeOf<Filled<typeof commonEntries>>();
  });
});

describe("what is for developers", () => {
  it.each<[string, object]>([
    ["at an origin that others reach", { origin: "https://tides.example" }],
    ["at an audience that others reach", { audience: "https://tides.example" }],
    ["at an origin that nobody has said", { audience: "tidebook" }],
  ])("is refused at the start %s", async (_, settings) => {
    const all = { issuer: practice.issuer, audience, development: true, ...settings };
    await expect(openGuard(all)).rejects.toThrow("at development: must be off");
  });
});

describe("an address of its own that the guard does not know", () => {
  it.each<[string, object]>([
    ["proofs that every call has", { proofRequired: true }],
    ["nonces of proofs", { proofNonces: "a".repeat(32) }],
    ["signed requests", { signedRequests: { credentialsOf: () => undefined } }],
  ])("stops it at the start with %s", async (_, settings) => {
    const all = { issuer: practice.issuer, audience: "tidebook", ...settings };
    await expect(openGuard(all)).rejects.toThrow("at origin: is missing");
  });

  it("is not taken from the request: a token with a proof is refused, and the log says what to set", async () => {
    const nameless = await openGuard({
      issuer: practice.issuer,
      audience: "tidebook",
      onProblem: () => undefined,
    });
    const token = await practice.token({ audience: "tidebook", bound: true });
    const url = "http://localhost/tides";
    const dpop = await practice.proof({ token, url });
    const call = new Request(url, { headers: { authorization: `DPoP ${token}`, dpop } });
    await expect(nameless.admit(call, "any-caller")).rejects.toMatchObject({
      status: 500,
      problem: { code: "guard.origin-unknown" },
    });
  });
});
