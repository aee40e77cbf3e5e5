import { describe, expect, it } from "vitest";
import { createVisitor } from "tenonsaw-practice";
import { freePorts } from "../scripts/servers.mjs";
import { start } from "./support/processes.js";

const demo = "examples/ferrywell/dist/server/demo.js";

describe("the demo", () => {
  it("starts, says what to try, tells each leg without a secret, and ends cleanly: twice in a row", async () => {
    const port = await freePorts(9);
    for (const signal of ["SIGINT", "SIGTERM"] as const) {
      const running = start(demo, ["--port", String(port)]);
      const said = await running.waitFor("Ctrl-C ends it");
      for (const offset of [0, 1, 2, 3, 4]) expect(said).toContain(`http://localhost:${port + offset}`);
      const visitor = createVisitor();
      await visitor.open(`http://localhost:${port}/tides`);
      await visitor.press("Sign in with Quayside ID");
      await visitor.press("Maren");
      expect((await visitor.press("Yes, allow")).url).toBe(`http://localhost:${port}/tides`);
      running.signal(signal);
      const { code, output, errors } = await running.finished;
      expect({ code, errors }).toEqual({ code: 0, errors: "" });
      const legs = output.split("\n").filter((line) => /^\d\d:\d\d:\d\d /.test(line));
      expect(legs.map((line) => line.slice(9).split(/[:,]| with /)[0])).toEqual([
        "metadata request",
        "sent to quayside",
        "back from quayside",
        "token request",
        "key set request",
        "userinfo request",
        "signed in",
      ]);
      expect(output).not.toMatch(/eyJ[\w-]+\.|only-for-practice/);
    }
  });

  it("says which port is in use and how to move, and leaves nothing running", async () => {
    const port = (await freePorts(8)) + 2;
    const first = start(demo, ["--port", String(port)]);
    await first.waitFor("Ctrl-C ends it");
    for (const [taken, asked] of [
      [port + 1, port],
      [port + 1, port - 2],
    ] as const) {
      const { code, errors } = await start(demo, ["--port", String(asked)]).finished;
      expect(code).toBe(1);
      expect(errors).toContain(`Port ${taken} is in use.`);
      expect(errors).toContain("npm run demo -- --port 7000");
    }
    first.signal("SIGINT");
    expect((await first.finished).code).toBe(0);
  });

  it.each(["80", "seventy", "65530"])("refuses the port %s", async (port) => {
    const { code, errors } = await start(demo, ["--port", port]).finished;
    expect(code).toBe(1);
    expect(errors).toContain("whole number from 1024 to 65527");
  });

  it("runs in several processes on one store with a server of its own, which refresh once between them", async () => {
    const port = await freePorts(9);
    const store = process.env["REDIS_SERVER"] === undefined ? "sqlite" : "redis";
    const running = start(demo, ["--port", String(port), "--processes", "3", "--store", store]);
    await running.waitFor("What to try");
    const visitor = createVisitor();
    const origin = `http://localhost:${port}`;
    await visitor.open(`${origin}/sign-in/to/quayside?returnTo=/`);
    await visitor.press("Zoë");
    await visitor.press("Yes, allow");
    const calls = await Promise.all(Array.from({ length: 9 }, () => visitor.fetch(`${origin}/api/tides`)));
    expect(calls.map(({ status }) => status)).toEqual(Array(9).fill(200));
    await visitor.post(`${origin}/sign-in/out`, {});
    expect((await visitor.fetch(`${origin}/api/tides`)).status).toBe(401);
    running.signal("SIGINT");
    const { code, output } = await running.finished;
    expect([code, output]).toEqual([0, expect.stringContaining("Nothing is left running.")]);
    // Each of them had its share.
    for (const number of [1, 2, 3]) expect(output).toContain(`[${number}] `);
  });

  it("says so when its store is not there", async () => {
    const port = await freePorts(9);
    const { code, errors } = await start(demo, ["--port", String(port), "--store", "redis://127.0.0.1:1/0"])
      .finished;
    expect([code, errors]).toEqual([1, expect.stringContaining("Redis at 127.0.0.1:1")]);
    expect((await start(demo, ["--processes", "0"]).finished).errors).toContain("whole number from 1 to 16");
  });

  const stores = [
    ["sqlite", true],
    ["redis", process.env["REDIS_SERVER"] !== undefined],
    ["postgres", process.env["POSTGRES_PROGRAMS"] !== undefined],
  ] as const;
  for (const [store, isThere] of stores)
    it.skipIf(!isThere)(`can be walked through over HTTP, on ${store}`, async () => {
      const { code, output, errors } = await start("examples/ferrywell/dist/server/walk.js", [store])
        .finished;
      expect(output, output + errors).toContain("The walk went as it should.");
      expect(output.match(/^ok {4}/gm)).toHaveLength(19);
      expect(code).toBe(0);
    });
});
