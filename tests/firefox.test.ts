import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { root, start } from "./support/processes.js";
import { startPage } from "./support/start-page.js";

const firefox = process.env["FIREFOX"];

describe.skipIf(firefox === undefined)("in Firefox", () => {
  it.each([
    ["a page whose server keeps the tokens", "served", "ferrywell-react", {}],
    ["a page that is the client", "client", "river-board", { clientId: "river-board", title: "River board" }],
    [
      "an app in a host's frame",
      "launched",
      "rowers-health",
      { clientId: "rowers-health", clientSecret: "only-for-practice", title: "Rowers' health" },
    ],
  ] as const)("%s does what a person asks of it", async (_, what, example, client) => {
    const app = await startPage(example, { client, isBuilt: true });
    const folder = await mkdtemp(join(tmpdir(), "firefox-"));
    try {
      const at = what === "launched" ? app.practice.ward : app.origin;
      // Before Node 22 a WebSocket is to be asked for.
      const isOld = Number(process.versions.node.split(".")[0]) < 22;
      const env = isOld ? { NODE_OPTIONS: "--experimental-websocket" } : {};
      const running = start(`${root}tests/support/in-firefox.mjs`, [folder, at, what], { env });
      const { code, output, errors } = await running.finished;
      expect([code, output], errors).toEqual([0, "all seen\n"]);
    } finally {
      await app.stop();
      await rm(folder, { recursive: true, force: true, maxRetries: 5 });
    }
  });
});
