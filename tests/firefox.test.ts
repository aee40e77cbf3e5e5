import { expect, it } from "vitest";
import { start } from "./support/processes.js";

/** One of each kind of page; `npm run test:firefox` runs all tests of pages in it. */
const chosen = {
  "client-page": "signs in in a window of its own, and says so where it is closed, or blocked",
  "served-page": "tells the other tabs, and agrees with them about who it is",
  "page-parts": "sign in, connect, disconnect and sign out, by the keyboard alone",
  "launch-browser": "does what a person asks of it",
};

it.skipIf(process.env["FIREFOX"] === undefined)("pages do in Firefox what they do in Chromium", async () => {
  const files = Object.keys(chosen).map((name) => `tests/${name}.test.ts`);
  const args = ["run", ...files, "-t", Object.values(chosen).join("|"), "--maxWorkers", "2"];
  const env = { PAGES_IN: "firefox", CI: "true" };
  const { code, output, errors } = await start("node_modules/vitest/vitest.mjs", args, { env }).finished;
  expect([code, /Tests +(\d+) passed/.exec(output)?.[1]], output + errors).toEqual([0, "4"]);
});
