import { webcrypto } from "node:crypto";
import * as nodeCrypto from "node:crypto";
import { describe, expect, it } from "vitest";
import { base64urlJson, createTestKey, problemOf } from "../../../../tests/support/fake-world.js";
import { createPlatform, type SignatureAlgorithm } from "../platform/index.js";
import { createNodeEngine } from "../platform/node-engine.js";
import { createWebEngine } from "../platform/web-engine.js";
import { fail, ProblemError } from "../problem/index.js";
import { createTools } from "../trace/index.js";
import { prepareKey, publicPart, thumbprint, type Jwk } from "./jwk.js";
import { KeySet } from "./key-set.js";
import { signJws, verifyJws } from "./jws.js";
import { newKeyPair } from "../../../../scripts/key-pair.mjs";

const engines = {
  node: createNodeEngine(nodeCrypto),
  web: createWebEngine(webcrypto.subtle as SubtleCrypto),
};
const toolsOf = (engine: keyof typeof engines) =>
  createTools({ platform: createPlatform({ crypto: engines[engine] }) });

const rsa = newKeyPair("rsa", { modulusLength: 2048 }).privateKey.export({
  format: "jwk",
}) as Jwk & {
  n: string;
  e: string;
};
const [ec, other, ed] = [createTestKey("ES256"), createTestKey("ES256"), createTestKey("EdDSA")];
const bytes = (text: string) => Buffer.from(text, "base64url");
const short = (text: string) => bytes(text).subarray(1).toString("base64url");
const zero = (text: string) => Buffer.concat([Buffer.alloc(1), bytes(text)]).toString("base64url");
const weak = newKeyPair("rsa", { modulusLength: 1024 }).publicKey.export({ format: "jwk" }) as Jwk;

/** A key, what it is to be used for, and what every engine has to say to it. */
type Row = [string, object, SignatureAlgorithm, "sign" | "verify", string?];
const keys: readonly Row[] = [
  ["an RSA key", rsa, "RS256", "verify"],
  ["an RSA key to sign with", rsa, "PS256", "sign"],
  ["a P-256 key", ec.publicJwk, "ES256", "verify"],
  ["an Ed25519 key", ed.privateJwk, "EdDSA", "sign"],
  ["a MAC key", { kty: "oct", k: base64urlJson("x".repeat(32)) }, "HS256", "verify"],
  ["RSA of 1024 bits", weak, "RS256", "verify", "jose.key-refused"],
  ["an even exponent", { ...rsa, e: "AQAA" }, "RS256", "verify", "jose.key-refused"],
  ["an exponent of three", { kty: "RSA", n: rsa.n, e: "Aw" }, "RS256", "verify"],
  ["an exponent of one", { ...rsa, e: "AQ" }, "RS256", "verify", "jose.key-refused"],
  ["no exponent", { kty: "RSA", n: rsa.n }, "RS256", "verify", "jose.key-refused"],
  [
    "an exponent of 65 bits",
    { ...rsa, e: base64urlJson("\x01".repeat(9)) },
    "RS256",
    "verify",
    "jose.key-refused",
  ],
  ["a modulus that is a number", { ...rsa, n: 7 }, "RS256", "verify", "jose.key-refused"],
  ["a modulus with a zero before it", { ...rsa, n: zero(rsa.n) }, "RS256", "verify", "jose.key-refused"],
  [
    "a modulus in another alphabet",
    { ...rsa, n: `${rsa.n.slice(0, -1)}+` },
    "RS256",
    "verify",
    "jose.not-base64url",
  ],
  [
    "halves of two RSA keys",
    { ...rsa, n: createTestKey("RS256").publicJwk.n },
    "RS256",
    "sign",
    "jose.key-refused",
  ],
  [
    "a short coordinate",
    { ...ec.publicJwk, x: short(ec.publicJwk.x ?? "") },
    "ES256",
    "verify",
    "jose.key-refused",
  ],
  [
    "a long coordinate",
    { ...ec.publicJwk, x: zero(ec.publicJwk.x ?? "") },
    "ES256",
    "verify",
    "jose.key-refused",
  ],
  ["no y", { ...ec.publicJwk, y: undefined }, "ES256", "verify", "jose.key-refused"],
  ["a point on no curve", { ...ec.publicJwk, x: other.publicJwk.x }, "ES256", "verify", "jose.key-refused"],
  ["halves of two EC keys", { ...ec.privateJwk, d: other.privateJwk.d }, "ES256", "sign", "jose.key-refused"],
  [
    "a private key without its public half",
    { ...ec.privateJwk, x: undefined },
    "ES256",
    "sign",
    "jose.key-refused",
  ],
  ["a key of another curve", { ...ec.publicJwk, crv: "P-384" }, "ES256", "verify", "jose.key-refused"],
  [
    "a short Ed25519 key",
    { ...ed.publicJwk, x: short(ed.publicJwk.x ?? "") },
    "EdDSA",
    "verify",
    "jose.key-refused",
  ],
  [
    "a MAC key that is too short",
    { kty: "oct", k: base64urlJson("short") },
    "HS256",
    "verify",
    "jose.key-refused",
  ],
  ["a MAC key that is a list", { kty: "oct", k: ["x"] }, "HS256", "verify", "jose.key-refused"],
];

describe.each(Object.keys(engines) as (keyof typeof engines)[])("the verdict of the %s engine", (engine) => {
  const tools = toolsOf(engine);
  const codeOf = (work: () => Promise<unknown>) =>
    work().then(
      () => undefined,
      (error: unknown) => (error instanceof ProblemError ? error.problem.code : String(error)),
    );

  it.each<Row>([...keys])("on %s", async (_, key, algorithm, operation, code) => {
    const jwk = { ...key, alg: undefined, use: undefined, key_ops: undefined } as unknown as Jwk;
    expect(await codeOf(() => prepareKey(tools, jwk, algorithm, operation))).toBe(code);
  });

  it.each<SignatureAlgorithm>(["RS256", "PS256", "ES256", "ES384", "ES512", "EdDSA", "HS256", "HS512"])(
    "on signatures by %s: whole, cut, grown, altered, and by the other engine",
    async (algorithm) => {
      const key = createTestKey(algorithm);
      const maker = toolsOf(engine === "node" ? "web" : "node");
      const signing = await prepareKey(maker, key.privateJwk, algorithm, "sign");
      const token = await signJws(maker, signing, { sub: "qs-10231" });
      const [head = "", body = "", signature = ""] = token.split(".");
      const raw = bytes(signature);
      const verifying = await prepareKey(tools, key.publicJwk, algorithm, "verify");
      const verdictOn = (altered: Uint8Array) =>
        codeOf(() =>
          verifyJws(
            tools,
            [head, body, Buffer.from(altered).toString("base64url")].join("."),
            [algorithm],
            () => verifying,
          ),
        );
      const flipped = Uint8Array.from(raw, (byte, index) => (index === 5 ? byte ^ 1 : byte));
      const verdicts = [
        raw,
        raw.subarray(1),
        Buffer.concat([raw, Buffer.alloc(1)]),
        flipped,
        new Uint8Array(raw.length),
      ];
      expect(await Promise.all(verdicts.map(verdictOn))).toEqual([
        undefined,
        ...Array.from({ length: 4 }, () => "jose.signature-mismatch"),
      ]);
    },
  );
});

describe("keys", () => {
  it("have no thumbprint while a member is missing or of another type", async () => {
    const tools = toolsOf("node");
    for (const jwk of [
      { kty: "EC", crv: "P-256", x: "AA" },
      { kty: "RSA", n: 7, e: "AQAB" },
      { kty: "oct" },
      { kty: "AKP" },
    ])
      expect((await problemOf(() => thumbprint(tools, jwk as unknown as Jwk))).code).toBe("jose.key-refused");
    expect(await thumbprint(tools, publicPart(ec.privateJwk))).toBe(await thumbprint(tools, ec.privateJwk));
  });

  it("are found by what a token says, whatever other tokens have said before it", async () => {
    const { kid: _none, ...unnamed } = ec.publicJwk;
    const set = new KeySet(toolsOf("node"), { keys: [unnamed], timeoutSeconds: 30 });
    const find = async (kid?: string) =>
      set.find({ alg: "ES256", ...(kid !== undefined && { kid }) }, "ES256");
    expect(await find()).toBeDefined();
    expect((await problemOf(() => find(""))).code).toBe("jose.key-unknown");
  });

  it("are asked for later where the provider says that it is busy", async () => {
    const fetch = () => Promise.resolve(new Response("", { status: 503, headers: { "retry-after": "30" } }));
    const tools = createTools({ platform: createPlatform({ fetch }) });
    const set = new KeySet(tools, { keys: "https://id.quayside.example/keys", timeoutSeconds: 30 });
    const find = async () => set.find({ alg: "ES256" }, "ES256");
    expect(await problemOf(find)).toMatchObject({ code: "jose.key-set-unavailable", retryAfterSeconds: 30 });
  });

  it.each(["kid", "typ", "cty"])("are not looked for where `%s` of the header is no text", async (name) => {
    const token = `${base64urlJson({ alg: "ES256", [name]: { toString: 1 } })}.e30.AAAA`;
    const work = () => verifyJws(toolsOf("node"), token, ["ES256"], () => fail("jose.key-unknown"));
    expect((await problemOf(work)).code).toBe("jose.header-refused");
  });
});
