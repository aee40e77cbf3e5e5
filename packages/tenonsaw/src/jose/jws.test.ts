import { createHmac } from "node:crypto";
import fc from "fast-check";
import { beforeAll, describe, expect, it, vi } from "vitest";
import { base64urlJson, createTestKey, problemOf } from "../../../../tests/support/fake-world.js";
import {
  createNodeEngine,
  createPlatform,
  createWebEngine,
  type SignatureAlgorithm,
} from "../platform/index.js";
import { createTools } from "../trace/index.js";
import { signatureAlgorithms } from "./algorithms.js";
import { prepareKey, type Jwk } from "./jwk.js";
import { decodeJws, verifyJws } from "./jws.js";
import { rfcTokens } from "../../../../tests/support/rfc-vectors.js";

const engines = {
  "node:crypto": createNodeEngine(process.getBuiltinModule("node:crypto")),
  "Web Crypto": createWebEngine(crypto.subtle),
};
const tools = createTools();

async function verifyWith(token: string, jwk: Jwk, algorithms: readonly SignatureAlgorithm[], using = tools) {
  return verifyJws(using, token, algorithms, (_, algorithm) => prepareKey(using, jwk, algorithm, "verify"));
}

describe.each(Object.entries(engines))("JWS with %s", (_, engine) => {
  const using = createTools({ platform: createPlatform({ crypto: engine }) });

  it.each(rfcTokens)(
    "verifies the token of $source, and not with one bit changed",
    async ({ token, jwk, alg }) => {
      // Two of the vectors sign text that is no JSON object; what counts here is the signature.
      const key = await prepareKey(using, jwk, alg, "verify");
      const [input, signature] = split(token);
      expect(await engine.verify(key, signature, input)).toBe(true);
      signature[3] = (signature[3] ?? 0) ^ 1;
      expect(await engine.verify(key, signature, input)).toBe(false);
    },
  );

  it.each(signatureAlgorithms)("makes %s signatures that the other engine verifies", async (algorithm) => {
    const { privateJwk, publicJwk } = createTestKey(algorithm);
    const data = new TextEncoder().encode("tides");
    const key = await prepareKey(using, privateJwk, algorithm, "sign");
    const signature = await engine.sign(key, data);
    for (const other of Object.values(engines)) {
      const otherTools = createTools({ platform: createPlatform({ crypto: other }) });
      const publicKey = await prepareKey(otherTools, publicJwk, algorithm, "verify");
      expect(await other.verify(publicKey, signature, data)).toBe(true);
    }
  });
});

describe("verifyJws", () => {
  const key = createTestKey("ES256");
  const rsa = createTestKey("RS256");
  let token = "";
  beforeAll(async () => {
    token = await key.sign({ sub: "qs-10231", aud: "ferrywell" });
  });

  it("returns header and payload of a token whose signature holds", async () => {
    const { header, payload } = await verifyWith(token, key.publicJwk, ["ES256"]);
    expect(header).toEqual({ alg: "ES256", kid: "key-1", typ: "JWT" });
    expect(payload).toEqual({ sub: "qs-10231", aud: "ferrywell" });
  });

  it("never accepts a token that differs by one character", async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.nat(token.length - 1),
        fc.constantFrom("A", "B", "a", "b", "0", "-", "_", "."),
        async (index, letter) => {
          fc.pre(token[index] !== letter);
          const altered = token.slice(0, index) + letter + token.slice(index + 1);
          const { station } = await problemOf(() => verifyWith(altered, key.publicJwk, ["ES256"]));
          expect(station).toBe("jose");
        },
      ),
      { numRuns: 300 },
    );
  });

  it.each([
    ["an empty text", () => "", "jose.not-compact"],
    ["two parts", () => token.split(".").slice(0, 2).join("."), "jose.not-compact"],
    ["four parts", () => `${token}.x`, "jose.not-compact"],
    ["five parts", () => `${token}.x.y`, "jose.encrypted"],
    ["no payload", () => token.replace(/\.[^.]*\./, ".."), "jose.not-json"],
    ["padding behind the signature", () => `${token}==`, "jose.not-base64url"],
    ["padding behind the header", () => token.replace(".", "=."), "jose.not-base64url"],
    ["a line break", () => `${token}\n`, "jose.not-base64url"],
    ["a header that is not UTF-8", () => token.replace(/^[^.]*/, "_w"), "jose.not-json"],
    [
      "a text in a header that is not UTF-8",
      () => rebyte(token, '{"alg":"ES256","x":"\xff"}'),
      "jose.not-json",
    ],
    ["a mark of byte order", () => rebyte(token, '\xef\xbb\xbf{"alg":"ES256"}'), "jose.not-json"],
    ["a header without alg", () => rehead(token, {}), "jose.algorithm-refused"],
    ["alg none with a signature", () => rehead(token, { alg: "none" }), "jose.algorithm-refused"],
    [
      "alg none without one",
      () => rehead(token, { alg: "none" }).replace(/[^.]*$/, ""),
      "jose.algorithm-refused",
    ],
    ["alg NONE", () => rehead(token, { alg: "NONE" }), "jose.algorithm-refused"],
    ["an algorithm not admitted here", () => rehead(token, { alg: "RS256" }), "jose.algorithm-refused"],
    ["a name every object has", () => rehead(token, { alg: "constructor" }), "jose.algorithm-refused"],
    ["crit", () => rehead(token, { alg: "ES256", crit: ["exp"] }), "jose.critical-unknown"],
    ["an empty crit", () => rehead(token, { alg: "ES256", crit: [] }), "jose.critical-unknown"],
    ["b64 without crit", () => rehead(token, { alg: "ES256", b64: false }), "jose.critical-unknown"],
    ["a header member twice", () => rehead(token, '{"alg":"ES256","alg":"ES256"}'), "jose.duplicate-member"],
    ["a claim twice", () => repay(token, '{"sub":"a","sub":"b"}'), "jose.duplicate-member"],
    ["a payload that is no object", () => repay(token, '["sub"]'), "jose.not-json"],
    [
      "a header pointing to another key set",
      () => rehead(token, { alg: "ES256", jku: "https://evil.example/keys" }),
      "jose.signature-mismatch",
    ],
    ["a signature in DER form", () => token.replace(/[^.]*$/, derOf), "jose.signature-mismatch"],
    ["an empty signature", () => token.replace(/[^.]*$/, ""), "jose.signature-mismatch"],
    ["more than 64 KiB", () => token + "A".repeat(65_536), "jose.token-too-large"],
  ])("refuses %s", async (_, make, code) => {
    expect((await problemOf(() => verifyWith(make(), key.publicJwk, ["ES256"]))).code).toBe(code);
  });

  it("does not take an HMAC made with the public key for a signature", async () => {
    const [, payload = ""] = (await rsa.sign({ sub: "x" })).split(".");
    const input = `${base64urlJson({ alg: "HS256", kid: "key-1" })}.${payload}`;
    const mac = createHmac("sha256", JSON.stringify(rsa.publicJwk)).update(input).digest("base64url");
    const { code, received } = await problemOf(() => verifyWith(`${input}.${mac}`, rsa.publicJwk, ["RS256"]));
    expect([code, received]).toEqual(["jose.algorithm-refused", '"HS256"']);
  });

  it("ignores a key that the token brings along", async () => {
    const mallory = createTestKey("ES256");
    const [, payload = ""] = token.split(".");
    const header = base64urlJson({ alg: "ES256", kid: "key-1", jwk: mallory.publicJwk });
    const signingKey = await prepareKey(tools, mallory.privateJwk, "ES256", "sign");
    const signature = await tools.platform.crypto.sign(
      signingKey,
      new TextEncoder().encode(`${header}.${payload}`),
    );
    const forged = `${header}.${payload}.${Buffer.from(signature).toString("base64url")}`;
    expect((await problemOf(() => verifyWith(forged, key.publicJwk, ["ES256"]))).code).toBe(
      "jose.signature-mismatch",
    );
  });

  it("decodes without believing", async () => {
    expect(decodeJws(rehead(token, { alg: "none" })).payload).toEqual({ sub: "qs-10231", aud: "ferrywell" });
    for (const header of [{}, { alg: 7 }, { alg: null }])
      expect((await problemOf(() => decodeJws(rehead(token, header)))).code).toBe("jose.algorithm-refused");
  });

  it("remembers a hundred headers, whatever strangers send", () => {
    const forgetting = vi.spyOn(Map.prototype, "clear");
    for (let count = 0; count < 250; count += 1)
      decodeJws(rehead(token, { alg: "ES256", kid: `a stranger's ${count}` }));
    const times = forgetting.mock.calls.length;
    forgetting.mockRestore();
    expect(times).toBeGreaterThanOrEqual(2);
  });
});

/** With a header of these bytes. */
function rebyte(token: string, bytes: string): string {
  return token.replace(/^[^.]*/, Buffer.from(bytes, "latin1").toString("base64url"));
}

function rehead(token: string, header: unknown): string {
  return token.replace(/^[^.]*/, base64urlJson(header));
}

function repay(token: string, payload: string): string {
  return token.replace(/\.[^.]*\./, `.${base64urlJson(payload)}.`);
}

/** The same ECDSA signature as ASN.1 DER, the form that JOSE does not use (RFC 7518 section 3.4). */
function derOf(signature: string): string {
  const raw = Buffer.from(signature, "base64url");
  const integer = (part: Buffer) => Buffer.concat([Buffer.from([2, part.length + 1, 0]), part]);
  const body = Buffer.concat([integer(raw.subarray(0, 32)), integer(raw.subarray(32))]);
  return Buffer.concat([Buffer.from([48, body.length]), body]).toString("base64url");
}

function split(token: string): [Uint8Array<ArrayBuffer>, Uint8Array<ArrayBuffer>] {
  const end = token.lastIndexOf(".");
  return [
    new TextEncoder().encode(token.slice(0, end)),
    new Uint8Array(Buffer.from(token.slice(end + 1), "base64url")),
  ];
}
