import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { problemOf } from "../../../../../tests/support/fake-world.js";
import { readReturnPath } from "./return-path.js";

const origin = "https://ferrywell.example";

describe("readReturnPath", () => {
  it.each([
    ["/tides", "/tides"],
    ["/tides?day=1&x=//y#at", "/tides?day=1&x=//y#at"],
    ["/a/../tides", "/tides"],
    ["/tides?next=https://other.example", "/tides?next=https://other.example"],
    ["/a//b", "/a//b"],
    ["/caf%C3%A9", "/caf%C3%A9"],
    ["", "/"],
    [null, "/"],
    [undefined, "/"],
  ])("takes %s", (text, path) => {
    expect(readReturnPath(origin, text)).toBe(path);
  });

  it.each([
    "https://evil.example/",
    "HTTPS://evil.example",
    "http://ferrywell.example/",
    "https://ferrywell.example.evil.example/",
    "https://ferrywell.example@evil.example/",
    "https:evil.example",
    "https:/evil.example",
    "//evil.example",
    "///evil.example",
    "////evil.example",
    "/\\evil.example",
    "\\\\evil.example",
    "\\/evil.example",
    "/\t/evil.example",
    "/\n/evil.example",
    "/\r\n/evil.example",
    "\t//evil.example",
    " //evil.example",
    "/ /evil.example",
    "/\u0000/evil.example",
    "/.//evil.example",
    "/a/..//evil.example",
    "/%2e//evil.example",
    "javascript:alert(1)",
    "data:text/html,<script>alert(1)</script>",
    "evil.example",
    "?x",
    "#x",
    ["/tides", "/tides"] as never,
    `/${"a".repeat(2048)}`,
  ])("refuses %j", async (text) => {
    expect((await problemOf(() => readReturnPath(origin, text))).code).toBe("server.return-path-refused");
  });

  it("leads nowhere but to this origin, whatever is asked", () => {
    const tricky = fc.constantFrom(
      "/",
      "\\",
      ".",
      "%2f",
      "%5c",
      "\t",
      "@",
      ":",
      "evil.example",
      "https:",
      "?",
      "#",
      "//",
    );
    fc.assert(
      fc.property(fc.array(tricky, { maxLength: 8 }), (parts) => {
        let path: string;
        try {
          path = readReturnPath(origin, parts.join(""));
        } catch {
          return;
        }
        // As the whole URL that is sent, and as the path that a page might put into a link.
        expect(new URL(origin + path).origin).toBe(origin);
        expect(new URL(path, origin).origin).toBe(origin);
      }),
      { numRuns: 2000 },
    );
  });
});
