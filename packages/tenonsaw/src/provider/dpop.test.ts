import { describe, expect, it } from "vitest";
import { createFakeWorld, noon } from "../../../../tests/support/fake-world.js";
import { decodeJws, prepareKey, thumbprint, verifyJws, type Jwk } from "../jose/index.js";
import { createTools } from "../trace/index.js";
import { createDpopKey, signDpopProof, takeNonce } from "./dpop.js";
import { sendProven } from "./send-proven.js";

const url = "https://tidebook.example/tides?day=2#x";
const setUp = async () => {
  const world = createFakeWorld();
  const tools = createTools({ platform: world.platform });
  return { world, tools, key: await createDpopKey(tools) };
};

describe("proofs of possession", () => {
  it("name keys as the standard's example does", async () => {
    // RFC 9449 section 6.1.
    const jwk = {
      kty: "EC",
      crv: "P-256",
      x: "l8tFrhx-34tV3hRICRDY9zCkDlpBhF42UQUfWVAWBFs",
      y: "9VE4jf_Ok_o64zbTTlcuNJajHmt6v9TDVrU0CdvGRDA",
    };
    expect(await thumbprint(createTools(), jwk)).toBe("0ZcOCORZNYy-DWpqq30jZyJGHTN0d2HglBV3uiguA4I");
  });

  it("are for one request, with the public key only, and hash the token as the standard's example does", async () => {
    const { tools, key } = await setUp();
    // RFC 9449 section 7.1.
    const accessToken = "Kz~8mXK1EalYznwH-LC-1fBAo.4Ljp~zsPE_NeO.gxU";
    const { text: proof } = await signDpopProof(tools, key, { method: "POST", url, accessToken });
    const { header, payload } = decodeJws(proof);
    expect(header).toEqual({
      alg: "ES256",
      typ: "dpop+jwt",
      jwk: { kty: "EC", crv: "P-256", x: key.x, y: key.y },
    });
    expect(payload).toEqual({
      jti: expect.stringMatching(/^[\w-]{22}$/) as string,
      htm: "POST",
      htu: "https://tidebook.example/tides",
      iat: noon,
      ath: "fUHyO2r2Z3DZ53EsNrWBb0xWXoaNy59IiKCAqksmQEo",
    });
    await verifyJws(tools, proof, ["ES256"], (_, algorithm) =>
      prepareKey(tools, header["jwk"] as Jwk, algorithm, "verify"),
    );
    expect(proof).not.toContain(key.d);
    expect((await signDpopProof(tools, key, { method: "POST", url, accessToken })).text).not.toBe(proof);
  });

  it("carry the nonce that this server asked for, and no other server's", async () => {
    const { tools, key } = await setUp();
    const headers = new Headers({ "dpop-nonce": "n-1", "www-authenticate": 'DPoP error="use_dpop_nonce"' });
    let sent: { nonce?: string; text: string } = { text: "" };
    expect(takeNonce(tools, url, sent, { status: 401, headers })).toBe(true);
    const nonceAt = async (where: string) =>
      decodeJws((await signDpopProof(tools, key, { method: "GET", url: where })).text).payload["nonce"];
    expect(await nonceAt(url)).toBe("n-1");
    expect(await nonceAt("https://slipway.example/")).toBeUndefined();
    // Of several that were out at once each is worth repeating, whichever came back first.
    expect(takeNonce(tools, url, sent, { status: 401, headers })).toBe(true);
    // The same nonce again is no reason to try for ever.
    sent = { text: "", nonce: "n-1" };
    expect(takeNonce(tools, url, sent, { status: 401, headers })).toBe(false);
    expect(takeNonce(tools, url, sent, { status: 200, headers: new Headers({ "dpop-nonce": "n-2" }) })).toBe(
      false,
    );
    expect(await nonceAt(url)).toBe("n-2");
    const odd = new Headers({ "dpop-nonce": "a b", "www-authenticate": 'DPoP error="use_dpop_nonce"' });
    expect(takeNonce(tools, url, sent, { status: 401, headers: odd })).toBe(false);
  });

  it("are sent once more with a nonce, and not a third time", async () => {
    const { world, tools, key } = await setUp();
    let count = 0;
    world.answers.set("https://id.quayside.example/token", () => {
      count += 1;
      return Response.json(
        { error: "use_dpop_nonce" },
        { status: 400, headers: { "dpop-nonce": `n-${count}` } },
      );
    });
    const leg = {
      station: "grant",
      leg: "token request",
      url: "https://id.quayside.example/token",
      form: new URLSearchParams({ a: "b" }),
      timeoutSeconds: 30,
    };
    let prepared = 0;
    const prepare = () => {
      prepared += 1;
      return leg;
    };
    expect((await sendProven(tools, prepare, key)).status).toBe(400);
    // What goes along may be good for one request only: it is made anew.
    expect([count, prepared]).toEqual([2, 2]);
    await sendProven(tools, () => leg, undefined);
    expect(new Headers(world.requests.at(-1)!.init.headers).has("dpop")).toBe(false);
  });
});
