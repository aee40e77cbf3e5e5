import { describe, expect, it } from "vitest";
import { createPlatform } from "tenonsaw/platform";
import { isProblem } from "../../problem/index.js";
import { createTools } from "../../trace/index.js";
import { requireOwnPage } from "./own-page.js";

const tools = createTools({ platform: createPlatform() });
const settings = { origin: "http://localhost:5173" };

describe("a request that is not from a page of this app", () => {
  it.each<[string, Record<string, string>, string | undefined]>([
    ["another site", { origin: "https://evil.example", "sec-fetch-site": "cross-site" }, undefined],
    ["another site that tells no origin", { "sec-fetch-site": "cross-site" }, undefined],
    ["a page in a sandbox", { origin: "null", "sec-fetch-site": "cross-site" }, undefined],
    ["something that looks like it", { origin: "http://localhost.evil.example:5173" }, undefined],
    ["what is no origin", { origin: "localhost:5173", "sec-fetch-site": "cross-site" }, undefined],
    ["the app itself by its number", { origin: "http://127.0.0.1:5173" }, "other-address"],
    ["the app itself behind TLS", { origin: "https://club.example", host: "club.example" }, "other-address"],
    ["a development server", { origin: "http://localhost:5174" }, "neighbour"],
    ["a subdomain", { origin: "https://www.club.example", "sec-fetch-site": "same-site" }, "neighbour"],
    ["a subdomain that tells no origin", { origin: "null", "sec-fetch-site": "same-site" }, "neighbour"],
    ["the address bar", { "sec-fetch-site": "none" }, "by-hand"],
    ["what is no browser", {}, "untold"],
    ["a page of nobody knows where", { origin: "null" }, "untold"],
  ])("is told by where it is from: %s", (_, headers, because) => {
    const host = new URL(headers["origin"]?.startsWith("http://127") ? headers["origin"] : settings.origin)
      .host;
    const request = new Request(`${settings.origin}/sign-in/out`, { headers: { host, ...headers } });
    let problem: unknown;
    try {
      requireOwnPage({ tools, settings }, request);
    } catch (error) {
      problem = isProblem(error, "session.other-origin")
        ? [error.problem.because, error.problem.expected]
        : error;
    }
    // Where an origin is told, it alone decides: what is expected does not name what came.
    const isTold = headers["origin"] !== undefined && headers["origin"] !== "null";
    const expected = `Origin ${settings.origin}${isTold ? "" : ", or Sec-Fetch-Site same-origin"}`;
    expect(problem).toEqual([because, expected]);
  });
});
