import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { problemOf } from "../../../../tests/support/fake-world.js";
import { decodeBase64url, encodeBase64url } from "./base64url.js";

describe("base64url", () => {
  it("brings back every sequence of bytes, spelled as Node spells it", () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), (bytes) => {
        const text = encodeBase64url(bytes);
        expect(text).toBe(Buffer.from(bytes).toString("base64url"));
        expect(decodeBase64url(text)).toEqual(new Uint8Array(bytes));
      }),
    );
  });

  it("accepts one spelling only: whatever decodes, encodes to the same text", () => {
    fc.assert(
      fc.property(fc.string({ unit: "grapheme-ascii", maxLength: 12 }), (text) => {
        let bytes: Uint8Array;
        try {
          bytes = decodeBase64url(text);
        } catch {
          return;
        }
        expect(encodeBase64url(bytes)).toBe(text);
      }),
    );
  });

  it.each([
    ["padding", "QQ=="],
    ["white space", "Q Q"],
    ["a line break", "QUJD\n"],
    ["the other alphabet", "+/+/"],
    ["a length no bytes have", "QUJDR"],
    ["unused bits that are set", "QR"],
    ["a letter beyond ASCII", "QUé"],
  ])("refuses %s", async (_, text) => {
    expect((await problemOf(() => decodeBase64url(text))).code).toBe("jose.not-base64url");
  });
});
