import { mkdtemp, rm, writeFile } from "node:fs/promises";
import { createServer, type Server } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { freePorts } from "../scripts/servers.mjs";
import { root, start } from "./support/processes.js";
import { startExample, type Example } from "./support/start-example.js";

const command = `${root}packages/tenonsaw/bin/tenonsaw.js`;
let example: Example;
let folder: string;
let file: string;

beforeAll(async () => {
  example = await startExample("own-api", "quayside");
  folder = await mkdtemp(join(tmpdir(), "own-api-"));
  file = join(folder, "settings.json");
});
afterAll(async () => {
  await example.stop();
  await rm(folder, { recursive: true });
});

const token = (wish: object = {}) => example.practice.token({ audience: example.origin, ...wish });
const call = async (path: string, wish: object = {}, init: RequestInit = {}) => {
  const headers = { authorization: `Bearer ${await token(wish)}`, "content-type": "application/json" };
  return fetch(example.origin + path, { ...init, headers });
};

describe("examples/own-api", () => {
  it("lets read by one scope, write by another, and take back by a role", async () => {
    expect(await (await call("/tides/today")).json()).toMatchObject({ place: "Ferrywell landing" });
    expect((await call("/slots/1", {}, { method: "POST" })).status).toBe(403);
    const booked = await call("/slots/1", { scope: "slots.write" }, { method: "POST" });
    expect(await booked.json()).toMatchObject({ slots: [{ id: 1, isFree: false }, {}, {}] });
    expect((await call("/slots/2", { scope: "slots.write", person: null }, { method: "POST" })).status).toBe(
      403,
    );
    expect((await call("/slots/1", { scope: "slots.write" }, { method: "DELETE" })).status).toBe(403);
    expect(
      (await call("/slots/1", { scope: "slots.write", person: "ib" }, { method: "DELETE" })).status,
    ).toBe(200);
  });

  it("judges one address by its operation", async () => {
    const query = async (body: object, scope: string) =>
      (await call("/query", { scope }, { method: "POST", body: JSON.stringify(body) })).status;
    expect(await query({ operation: "tides" }, "tides.read")).toBe(200);
    expect(await query({ operation: "book", id: 2 }, "tides.read")).toBe(403);
    expect(await query({ operation: "book", id: 2 }, "slots.write")).toBe(200);
    expect(await query({ operation: "book", id: 2 }, "slots.write")).toBe(409);
    expect(await query({ operation: "book", id: 9 }, "slots.write")).toBe(404);
    for (const operation of ["sink", "__proto__", "constructor", "toString", undefined, 7])
      expect(await query({ operation }, "tides.read slots.write")).toBe(403);
  });

  it("lists what it has refused, with reason and remedy, while it is being developed", async () => {
    await call("/tides/today", { fault: "other-audience" });
    const page = await (await fetch(`${example.origin}/guard/refusals`)).text();
    expect(page).toContain("The access token is for another API");
    expect(page).toContain("https://gauges.example");
  });
});

describe("tenonsaw check --api", () => {
  const check = async (origin: string, api: object = {}, ...more: readonly string[]) => {
    await writeFile(
      file,
      JSON.stringify({
        origin: "http://localhost:5173",
        keys: { env: "TENONSAW_KEYS" },
        providers: {
          quayside: { issuer: example.practice.issuer, clientId: "ferrywell", scope: "openid tides.read" },
        },
        apis: { tidebook: { provider: "quayside", origin, sample: "/tides/today", ...api } },
      }),
    );
    const args = ["check", "--api", "tidebook", "--settings", file, "--json", ...more];
    const { code, output, errors } = await start(command, args).finished;
    const { findings } = JSON.parse(output || "{}") as {
      findings: { readonly name: string; readonly verdict: string; readonly looked: string }[];
    };
    return { code, errors, findings, of: (name: string) => findings.find((each) => each.name === name) };
  };
  /** A server that answers everything in one way. */
  const serving = async (
    answer: (authorization: string | undefined) => Response,
    work: (origin: string) => Promise<void>,
  ) => {
    const port = await freePorts(1);
    const server: Server = createServer((incoming, outgoing) => {
      const { status, headers } = answer(incoming.headers.authorization);
      outgoing.writeHead(status, Object.fromEntries(headers)).end();
    });
    await new Promise<void>((resolve) => server.listen(port, "localhost", resolve));
    try {
      await work(`http://localhost:${port}`);
    } finally {
      server.closeAllConnections();
      server.close();
    }
  };

  it("looks below the address of a host's API, and says which address it cannot know", async () => {
    const asked: string[] = [];
    const port = await freePorts(1);
    const server: Server = createServer(({ url = "" }, outgoing) => {
      asked.push(url);
      outgoing.writeHead(404).end();
    });
    await new Promise<void>((resolve) => server.listen(port, "127.0.0.1", resolve));
    const host = (tenant: string, launch: object) => ({
      origin: "http://localhost:5173",
      keys: { env: "TENONSAW_KEYS" },
      providers: {
        boathouse: {
          issuer: `http://127.0.0.1:${port}/${tenant}/fhir`,
          discovery: "smart",
          clientId: "rowers-health",
          scope: "openid launch",
          launch,
        },
      },
      apis: { record: { provider: "boathouse", sample: "/Patient/1" } },
    });
    const run = async (settings: object, args: readonly string[]) => {
      await writeFile(file, JSON.stringify(settings));
      return start(command, [...args, "--settings", file]).finished;
    };
    await run(host("riverside", {}), ["check", "--api", "record"]);
    expect(asked).toContain("/riverside/fhir/Patient/1");
    const anywhere = host("{house}", { tenants: { placeholder: "{house}", admitted: "any" } });
    for (const args of [
      ["check", "--api", "record"],
      ["call", "record", "/Patient/1"],
      ["try", "boathouse", "--call", "record/Patient/1"],
    ]) {
      const { code, errors } = await run(anywhere, args);
      expect(errors).toContain("settings that are for one tenant");
      expect(code).toBe(2);
    }
    server.closeAllConnections();
    server.close();
  });

  it("finds nothing wrong with an API behind a guard, having tried what a stranger would", async () => {
    const { code, findings } = await check(example.origin, {}, "--scope", "tides.read");
    expect(findings.filter(({ verdict }) => verdict !== "good")).toEqual([]);
    expect(findings.map(({ name }) => name)).toEqual([
      "no token",
      "the API itself",
      "its issuer",
      "expired",
      "not yet valid",
      "other audience",
      "other issuer",
      "ID token",
      "cut",
      "stranger's signature",
      "no signature",
      "too little scope",
      "bound, as bearer",
      "DPoP without proof",
      "token in the query",
      "a good token",
    ]);
    expect(code).toBe(0);
  });

  it("tells an API from what else may listen there, and one of another issuer or name", async () => {
    const page = await check(example.practice.issuer, { sample: "/" });
    expect(page.of("the API itself")).toMatchObject({
      verdict: "wrong",
      looked: expect.stringContaining("a web page") as string,
    });
    const nobody = await check(`http://localhost:${await freePorts(1)}`);
    expect(nobody.of("address")).toMatchObject({ verdict: "wrong" });
    const named = await check(example.origin, { audience: "https://tidebook.example" });
    expect(named.of("the API itself")).toMatchObject({
      verdict: "careful",
      looked: expect.stringContaining(example.origin) as string,
    });
    expect(named.of("a good token")).toMatchObject({ verdict: "wrong" });
  });

  it("finds an API that lets everybody in, or everything that looks like a token, or refuses without saying how", async () => {
    await serving(
      () => new Response(null, { status: 200 }),
      async (origin) => expect((await check(origin)).of("no token")).toMatchObject({ verdict: "wrong" }),
    );
    await serving(
      () => new Response(null, { status: 401 }),
      async (origin) =>
        expect((await check(origin)).of("no token")).toMatchObject({
          looked: expect.stringContaining("no challenge") as string,
        }),
    );
    await serving(
      (authorization) =>
        authorization === undefined
          ? new Response(null, { status: 401, headers: { "www-authenticate": 'Bearer realm="x"' } })
          : new Response(null, { status: 200 }),
      async (origin) => {
        const { code, findings } = await check(origin);
        const wrong = findings.filter(({ verdict }) => verdict === "wrong").map(({ name }) => name);
        expect(wrong).toContain("stranger's signature");
        expect(wrong).toHaveLength(11);
        expect(code).toBe(1);
      },
    );
    await serving(
      (authorization) =>
        new Response(null, {
          status: authorization === undefined ? 401 : 500,
          headers: { "www-authenticate": 'Bearer error="invalid_token"' },
        }),
      async (origin) => {
        const found = await check(origin);
        expect(found.of("no token")).toMatchObject({ verdict: "careful" });
        expect(found.of("unsigned") ?? found.of("no signature")).toMatchObject({
          verdict: "wrong",
          looked: expect.stringContaining("it fails at") as string,
        });
      },
    );
  });

  it("works with a token of one's own where the issuer makes none on request", async () => {
    const genuine = join(folder, "token.txt");
    // The practice provider makes good ones; what was given is what is asked about.
    await writeFile(genuine, "stale");
    const found = await check(example.origin, {}, "--token", genuine);
    expect(found.of("a good token")).toMatchObject({ verdict: "wrong" });
    await writeFile(genuine, `${await token()}\n`);
    // An issuer that is no practice provider: its metadata cannot be read here.
    const elsewhere = { issuer: "http://localhost:1/nobody" };
    await writeFile(
      file,
      JSON.stringify({
        origin: "http://localhost:5173",
        keys: { env: "TENONSAW_KEYS" },
        providers: { quayside: { ...elsewhere, clientId: "ferrywell", scope: "openid tides.read" } },
        apis: {
          tidebook: {
            provider: "quayside",
            origin: example.origin,
            audience: example.origin,
            sample: "/tides/today",
          },
        },
      }),
    );
    const args = ["check", "--api", "tidebook", "--settings", file, "--json", "--token", genuine];
    const { output } = await start(command, args).finished;
    expect(output).not.toMatch(/eyJ[\w-]+\./);
    const { findings } = JSON.parse(output) as { findings: { name: string; verdict: string }[] };
    const verdicts = Object.fromEntries(findings.map(({ name, verdict }) => [name, verdict]));
    expect(verdicts).toMatchObject({
      "genuine, but wrong": "untold",
      "stranger's signature": "good",
      cut: "good",
      altered: "good",
      "a good token": "good",
      "its issuer": "wrong",
    });
  });
});
