import { describe, expect, it } from "vitest";
import { createTestKey, problemOf } from "../../../../tests/support/fake-world.js";
import { rfcThumbprint } from "../../../../tests/support/rfc-vectors.js";
import { createTools } from "../trace/index.js";
import { prepareKey, publicPart, thumbprint, type Jwk } from "./jwk.js";
import { newKeyPair } from "../../../../scripts/key-pair.mjs";

const tools = createTools();
const { publicJwk, privateJwk } = createTestKey("ES256");
const rsaOf = (modulusLength: number) =>
  newKeyPair("rsa", { modulusLength }).publicKey.export({ format: "jwk" }) as unknown as Jwk;

describe("JWK", () => {
  it("has the thumbprint of the standard's example, whatever else the key says", async () => {
    expect(await thumbprint(tools, rfcThumbprint.jwk)).toBe(rfcThumbprint.thumbprint);
  });

  it("keeps nothing private in its public part", () => {
    expect(privateJwk.d).toBeTypeOf("string");
    expect(publicPart(privateJwk)).toEqual(publicJwk);
    expect(publicJwk.d).toBeUndefined();
  });

  it("verifies with the public part of a private key that was published by mistake", async () => {
    expect((await prepareKey(tools, privateJwk, "ES256", "verify")).use).toBe("verify");
  });

  it.each<[string, Jwk]>([
    ["a key for encryption", { ...publicJwk, use: "enc" }],
    ["a key for other operations", { ...publicJwk, key_ops: ["sign"] }],
    ["a key for another algorithm", { ...publicJwk, alg: "ES384" }],
    ["another curve", { ...publicJwk, crv: "P-384" }],
    ["another kind of key", { kty: "oct", k: "AAAA" }],
    ["a point that is not on the curve", { ...publicJwk, x: publicJwk.y ?? "" }],
    ["a coordinate that is cut", { ...publicJwk, y: (publicJwk.y ?? "").slice(0, 40) }],
    ["a key without its members", { kty: "EC", crv: "P-256" }],
    ["nothing at all", null as unknown as Jwk],
    ["a text", "key" as unknown as Jwk],
  ])("refuses %s", async (_, jwk) => {
    expect((await problemOf(() => prepareKey(tools, jwk, "ES256", "verify"))).code).toBe("jose.key-refused");
  });

  it("refuses RSA whose modulus is even, or not the product of its primes", async () => {
    const own = newKeyPair("rsa", { modulusLength: 2048 }).privateKey.export({
      format: "jwk",
    }) as unknown as Jwk;
    const other = rsaOf(2048);
    const bytes = Buffer.from(String(own.n), "base64url");
    bytes[bytes.length - 1]! &= 0xfe;
    const receivedOf = async (jwk: Jwk, operation: "sign" | "verify") =>
      (await problemOf(() => prepareKey(tools, jwk, "RS256", operation))).received;
    expect(await receivedOf({ ...other, n: bytes.toString("base64url") }, "verify")).toContain(
      "even modulus",
    );
    expect(await receivedOf({ ...own, n: other.n } as Jwk, "sign")).toContain("product of its primes");
    expect((await prepareKey(tools, own, "RS256", "sign")).algorithm).toBe("RS256");
  });

  it("refuses RSA below 2048 bits, and only that", async () => {
    const weak = await problemOf(() => prepareKey(tools, rsaOf(2040), "RS256", "verify"));
    expect(weak).toMatchObject({
      code: "jose.key-refused",
      received: expect.stringContaining("2040 bits") as string,
    });
    expect((await prepareKey(tools, rsaOf(2048), "RS256", "verify")).algorithm).toBe("RS256");
  });
});
