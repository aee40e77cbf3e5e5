import { createCipheriv, createSecretKey } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { base64urlJson, problemOf } from "../../../../tests/support/fake-world.js";
import { rfcEncrypted, rfcRefused } from "../../../../tests/support/rfc-vectors.js";
import { createNodeEngine, createPlatform, createWebEngine } from "../platform/index.js";
import { createTools } from "../trace/index.js";
import { decryptJwe, encryptJwe } from "./jwe.js";
import { agreeOnKey } from "./jwe-keys.js";
import {
  contentEncryptions,
  contentKeyBytes,
  keyManagements,
  type ContentEncryption,
  type JweHeader,
  type KeyManagement,
} from "./jwe-names.js";
import { publicPart, type Jwk } from "./jwk.js";
import { newKeyPair } from "../../../../scripts/key-pair.mjs";

const all = { alg: keyManagements, enc: contentEncryptions };
const engines = {
  "node:crypto": createNodeEngine(process.getBuiltinModule("node:crypto")),
  "Web Crypto": createWebEngine(crypto.subtle),
};
const toolsOf = Object.values(engines).map((engine) =>
  createTools({ platform: createPlatform({ crypto: engine }) }),
);
const [tools] = toolsOf as [(typeof toolsOf)[0]];

const exported = (key: { export(options: { format: "jwk" }): unknown }) =>
  key.export({ format: "jwk" }) as Jwk;
const rsa = exported(newKeyPair("rsa", { modulusLength: 2048 }).privateKey);
const curves = ["P-256", "P-384", "P-521"].map((namedCurve) =>
  exported(newKeyPair("ec", { namedCurve }).privateKey),
);
const symmetric = (bytes: number) => exported(createSecretKey(Buffer.alloc(bytes, 7)));

function keyFor(alg: KeyManagement, enc: ContentEncryption): Jwk {
  if (alg.startsWith("RSA")) return rsa;
  if (alg.startsWith("ECDH")) return curves[0]!;
  return symmetric(alg === "dir" ? contentKeyBytes[enc] : alg === "A128KW" ? 16 : 32);
}

describe.each(toolsOf.map((each) => [each.platform.crypto.name, each] as const))(
  "JWE with %s",
  (_, using) => {
    it.each(rfcEncrypted)("decrypts the token of $source", async ({ token, jwk, plaintext }) => {
      expect((await decryptJwe(using, token, all, () => jwk)).plaintext).toBe(plaintext);
    });

    it.each(keyManagements.flatMap((alg) => contentEncryptions.map((enc) => [alg, enc] as const)))(
      "encrypts with %s and %s what the other engine decrypts",
      async (alg, enc) => {
        const key = keyFor(alg, enc);
        const header = { alg, enc, cty: "JWT" } satisfies JweHeader;
        const token = await encryptJwe(using, key.kty === "oct" ? key : publicPart(key), header, "tidés");
        for (const other of toolsOf) {
          const decrypted = await decryptJwe(other, token, all, () => key);
          expect(decrypted).toMatchObject({ header, plaintext: "tidés" });
        }
      },
    );

    it.each(curves)("agrees on keys on the curve $crv", async (key) => {
      const token = await encryptJwe(
        using,
        publicPart(key),
        { alg: "ECDH-ES+A256KW", enc: "A256GCM" },
        "tides",
      );
      expect((await decryptJwe(using, token, all, () => key)).plaintext).toBe("tides");
    });
  },
);

describe("decryptJwe", () => {
  const decrypt = (token: string, key: Jwk = rsa, admitted = all) =>
    decryptJwe(tools, token, admitted, () => key);
  const make = (enc: ContentEncryption = "A256GCM") =>
    encryptJwe(tools, publicPart(rsa), { alg: "RSA-OAEP-256", enc }, "tides");

  it("never returns anything from a token that differs by one character", async () => {
    for (const enc of ["A256GCM", "A128CBC-HS256"] as const) {
      const token = await make(enc);
      await fc.assert(
        fc.asyncProperty(
          fc.nat(token.length - 1),
          fc.constantFrom("A", "B", "a", "0", "-", "_", "."),
          async (index, letter) => {
            fc.pre(token[index] !== letter);
            const altered = token.slice(0, index) + letter + token.slice(index + 1);
            expect((await problemOf(() => decrypt(altered))).station).toBe("jose");
          },
        ),
        { numRuns: 150 },
      );
    }
  });

  const withHeader = async (change: object) => {
    const [head = "", ...rest] = (await make()).split(".");
    const header = JSON.parse(Buffer.from(head, "base64url").toString()) as object;
    return [base64urlJson({ ...header, ...change }), ...rest].join(".");
  };
  it.each<[string, () => Promise<string>, string]>([
    ["RSA1_5", () => withHeader({ alg: "RSA1_5" }), "jose.algorithm-refused"],
    ["an algorithm that is none", () => withHeader({ alg: "none" }), "jose.algorithm-refused"],
    ["an algorithm from the prototype", () => withHeader({ alg: "constructor" }), "jose.algorithm-refused"],
    ["another encryption", () => withHeader({ enc: "A192GCM" }), "jose.algorithm-refused"],
    ["compression", () => withHeader({ zip: "DEF" }), "jose.critical-unknown"],
    ["a critical extension", () => withHeader({ crit: ["exp"], exp: 1 }), "jose.critical-unknown"],
    [
      "a direct key with an encrypted key beside it",
      () => withHeader({ alg: "dir" }),
      "jose.decryption-failed",
    ],
    [
      "key agreement without a key to agree with",
      () => withHeader({ alg: "ECDH-ES+A256KW" }),
      "jose.decryption-failed",
    ],
    ["four parts", async () => (await make()).split(".").slice(1).join("."), "jose.not-compact"],
    ["six parts", async () => `${await make()}.x`, "jose.not-compact"],
    ["no JSON in the header", async () => `e30x${(await make()).slice(4)}`, "jose.not-json"],
    ["300 kB", async () => `${await make()}${"A".repeat(300_000)}`, "jose.token-too-large"],
  ])("refuses %s", async (_, token, code) => {
    expect((await problemOf(async () => decrypt(await token()))).code).toBe(code);
  });

  it("does not take RSA1_5, as in the example of RFC 7516, A.2", async () => {
    const { code } = await problemOf(() => decryptJwe(tools, rfcRefused.token, all, () => rfcRefused.jwk));
    expect(code).toBe("jose.algorithm-refused");
  });

  it("refuses what the caller does not let in, before it looks for a key", async () => {
    const token = await make();
    const admitted = { alg: ["ECDH-ES"], enc: contentEncryptions } as const;
    const find = () => {
      throw new RangeError("asked for a key");
    };
    expect((await problemOf(() => decryptJwe(tools, token, admitted, find))).code).toBe(
      "jose.algorithm-refused",
    );
  });

  it("fails alike for a wrong key, a short tag, a cut IV and an altered ciphertext", async () => {
    const other = exported(newKeyPair("rsa", { modulusLength: 2048 }).privateKey);
    const [head, key, iv = "", text = "", tag = ""] = (await make()).split(".");
    const problems = [
      await problemOf(async () => decrypt(await make(), other)),
      await problemOf(async () => decrypt(await make(), curves[0])),
      await problemOf(() => decrypt([head, key, iv, text, tag.slice(0, 8)].join("."))),
      await problemOf(() => decrypt([head, key, iv.slice(0, 8), text, tag].join("."))),
      await problemOf(() => decrypt([head, key, iv, `${text.slice(0, -4)}AAAA`, tag].join("."))),
    ];
    expect(new Set(problems.map((problem) => JSON.stringify(problem))).size).toBe(1);
    expect(problems[0]?.code).toBe("jose.decryption-failed");
  });

  it("takes an IV of 96 bits and a tag of 128, and no other that its key would fit", async () => {
    const content = new Uint8Array(32).fill(7);
    const head = base64urlJson({ alg: "dir", enc: "A256GCM" });
    const associated = new TextEncoder().encode(head);
    const forge = async (length: number) => {
      const iv = new Uint8Array(length).fill(1);
      const sealed = await tools.platform.crypto.encryptGcm(content, iv, new Uint8Array(3), associated);
      const parts = [new Uint8Array(0), iv, sealed.slice(0, -16), sealed.slice(-16)];
      return [head, ...parts.map((part) => Buffer.from(part).toString("base64url"))].join(".");
    };
    const open = async (token: string) => decryptJwe(tools, token, all, () => content);
    expect((await open(await forge(12))).plaintext).toHaveLength(3);
    for (const length of [8, 16]) {
      const token = await forge(length);
      expect((await problemOf(() => open(token))).code).toBe("jose.decryption-failed");
    }
  });

  it("takes no point that is on no curve, or on another one", async () => {
    const own = curves[0]!;
    const token = await encryptJwe(tools, publicPart(own), { alg: "ECDH-ES", enc: "A256GCM" }, "tides");
    const [head = "", ...rest] = token.split(".");
    const header = JSON.parse(Buffer.from(head, "base64url").toString()) as { epk: Jwk };
    for (const epk of [
      { ...header.epk, y: header.epk.x },
      publicPart(curves[1]!),
      { kty: "EC", crv: "P-256" },
      null,
    ]) {
      const forged = [base64urlJson({ ...header, epk }), ...rest].join(".");
      expect((await problemOf(() => decrypt(forged, own))).code).toBe("jose.decryption-failed");
    }
  });

  it("agrees on the key of RFC 7518 appendix C", async () => {
    const curve = { kty: "EC", crv: "P-256" };
    const epk = {
      ...curve,
      x: "gI0GAILBdu7T53akrFmMyGcsF3n5dO7MmwNBHKW5SV0",
      y: "SLW_xSffzlPWrHEVI30DHM_4egVwt3NQqeUD7nMFpps",
    };
    const bob = {
      ...curve,
      x: "weNJy2HscCSM6AEDTDg04biOvhFhyyWvOHQfeF_PxMQ",
      y: "e8lnCO-AlStT-NJVX-crhB7QRYhiix03illJOVAOyck",
      d: "VEmDZpDXXK8p8N0Cndsxs924q6nS1RXFASRl6BfUqdw",
    } as Jwk;
    const header: JweHeader = { alg: "ECDH-ES", enc: "A128GCM", apu: "QWxpY2U", apv: "Qm9i", epk };
    for (const each of toolsOf) {
      const agreed = await agreeOnKey(each, bob, header, new Uint8Array(0));
      expect(Buffer.from(agreed).toString("base64url")).toBe("VqqN6vgjbSBcIijNcacQGg");
    }
  });

  it("takes no text that is not UTF-8, no mark of byte order for nothing, and no key of another kind", async () => {
    const key = Buffer.alloc(32, 7);
    const forge = (header: string, content: string) => {
      const [head, iv] = [Buffer.from(header, "latin1").toString("base64url"), Buffer.alloc(12)];
      const cipher = createCipheriv("aes-256-gcm", key, iv).setAAD(Buffer.from(head));
      const sealed = Buffer.concat([cipher.update(content, "latin1"), cipher.final()]);
      return [head, "", ...[iv, sealed, cipher.getAuthTag()].map((part) => part.toString("base64url"))].join(
        ".",
      );
    };
    const dir = '{"alg":"dir","enc":"A256GCM","x":"';
    const open = (token: string, kty = "oct") =>
      decryptJwe(tools, token, all, () => ({ kty, k: key.toString("base64url") }));
    expect((await open(forge(`${dir}"}`, "\xef\xbb\xbftides"))).plaintext).toBe("\ufefftides");
    for (const token of [
      forge(`${dir}"}`, "tides \xff"),
      forge(`${dir}\xff"}`, "tides"),
      forge(`\xef\xbb\xbf${dir}"}`, "tides"),
    ])
      expect((await problemOf(() => open(token))).code).toBe("jose.not-json");
    const other = () => open(forge(`${dir}"}`, "tides"), "RSA");
    expect((await problemOf(other)).code).toBe("jose.decryption-failed");
  });

  it("encrypts for no RSA key below 2048 bits", async () => {
    const weak = exported(newKeyPair("rsa", { modulusLength: 1024 }).publicKey);
    const work = () => encryptJwe(tools, weak, { alg: "RSA-OAEP", enc: "A256GCM" }, "tides");
    expect((await problemOf(work)).code).toBe("jose.key-refused");
  });
});
