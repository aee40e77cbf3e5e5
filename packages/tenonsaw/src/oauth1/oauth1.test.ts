import { createVerify } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { createNodeEngine, createPlatform, createWebEngine } from "../platform/index.js";
import * as nodeCrypto from "node:crypto";
import { createFakeWorld, noon, problemOf, type FakeWorld } from "../../../../tests/support/fake-world.js";
import {
  beginOAuth1SignIn,
  finishOAuth1SignIn,
  openOAuth1Provider,
  percentEncode,
  signatureBaseString,
  signOAuth1Request,
  type OAuth1Provider,
  type OAuth1Settings,
} from "./index.js";
import { newKeyPair } from "../../../../scripts/key-pair.mjs";

const wharf = "https://archive.example";
const settings: OAuth1Settings = {
  protocol: "oauth1",
  issuer: wharf,
  clientId: "ferrywell",
  clientSecret: "only-for-tests",
  temporaryCredentialsEndpoint: `${wharf}/initiate`,
  authorizationEndpoint: `${wharf}/authorize?theme=plain`,
  tokenEndpoint: `${wharf}/token`,
  profile: { subject: "/number" },
};

function open(world: FakeWorld, changes: Partial<OAuth1Settings> = {}): OAuth1Provider {
  return openOAuth1Provider(
    { ...settings, ...changes },
    { platform: world.platform, trace: (event) => world.events.push(event) },
  );
}

const form = (fields: Readonly<Record<string, string>> | string) =>
  new Response(typeof fields === "string" ? fields : new URLSearchParams(fields).toString(), {
    headers: { "content-type": "application/x-www-form-urlencoded" },
  });

/** The parameters of an Authorization header. */
function headerOf(headers: Headers): Map<string, string> {
  const matches = (headers.get("authorization") ?? "").matchAll(/([\w%]+)="([^"]*)"/g);
  return new Map([...matches].map(([, name = "", value = ""]) => [name, decodeURIComponent(value)]));
}

describe("the signature base string", () => {
  it("is that of RFC 5849 section 3.4.1.1", () => {
    const text = signatureBaseString({
      method: "post",
      url: "http://EXAMPLE.com:80/request?b5=%3D%253D&a3=a&c%40=&a2=r%20b",
      form: [...new URLSearchParams("c2&a3=2+q")],
      protocol: [
        ["oauth_consumer_key", "9djdj82h48djs9d2"],
        ["oauth_token", "kkk9d7dh3k39sjv7"],
        ["oauth_signature_method", "HMAC-SHA1"],
        ["oauth_timestamp", "137131201"],
        ["oauth_nonce", "7d8f3e4a"],
      ],
    });
    expect(text).toBe(
      "POST&http%3A%2F%2Fexample.com%2Frequest&a2%3Dr%2520b%26a3%3D2%2520q" +
        "%26a3%3Da%26b5%3D%253D%25253D%26c%2540%3D%26c2%3D%26oauth_consumer_" +
        "key%3D9djdj82h48djs9d2%26oauth_nonce%3D7d8f3e4a%26oauth_signature_m" +
        "ethod%3DHMAC-SHA1%26oauth_timestamp%3D137131201%26oauth_token%3Dkkk" +
        "9d7dh3k39sjv7",
    );
  });

  it.each([
    ["http://EXAMPLE.COM:80/r%20v/X?id=123", "http://example.com/r%20v/X"],
    ["https://www.example.net:8080/?q=1", "https://www.example.net:8080/"],
    ["https://www.example.net:443", "https://www.example.net/"],
    ["https://example.net/a/../b/./c;p=1?x#fragment", "https://example.net/b/c;p=1"],
    ["https://example.net/%7Etide", "https://example.net/%7Etide"],
  ])("names the resource as section 3.4.1.2 has it: %s", (url, resource) => {
    const [, encoded = ""] = signatureBaseString({ method: "GET", url, form: [], protocol: [] }).split("&");
    expect(decodeURIComponent(encoded)).toBe(resource);
  });

  it.each([
    ["a=1&a=%31&a=+", "a=%20&a=1&a=1"],
    ["z&a=&%C3%A9=e&e%CC%81=e", "%C3%A9=e&a=&e%CC%81=e&z="],
    ["a%2Bb=1&a+b=2&a=3", "a=3&a%20b=2&a%2Bb=1"],
    ["a=b%26c=d&a=!*'()", "a=%21%2A%27%28%29&a=b%26c%3Dd"],
    ["%zz=%&a=%E0%A4%A", "%25zz=%25&a=%EF%BF%BD%25A"],
  ])("sorts %s by encoded name, then value", (query, sorted) => {
    const url = `https://example.net/?${query}`;
    const [, , encoded = ""] = signatureBaseString({ method: "GET", url, form: [], protocol: [] }).split("&");
    expect(decodeURIComponent(encoded)).toBe(sorted);
  });

  it("encodes any text so that it comes back, of unreserved characters and %XX alone", () => {
    fc.assert(
      fc.property(fc.string({ unit: "grapheme" }), (text) => {
        const encoded = percentEncode(text);
        expect(encoded).toMatch(/^(?:[A-Za-z0-9._~-]|%[0-9A-F]{2})*$/);
        expect(decodeURIComponent(encoded)).toBe(text);
      }),
    );
    expect(percentEncode("\ud800")).toBe("%EF%BF%BD");
  });
});

describe("signing", () => {
  /** A provider whose clock and nonces are those of the vectors. */
  const fixed = (
    changes: Partial<OAuth1Settings>,
    timestamp: number,
    engine = createNodeEngine(nodeCrypto),
  ) =>
    openOAuth1Provider(
      { ...settings, clientId: "dpf43f3p2l4k3l03", clientSecret: "kd94hf93k423kf44", ...changes },
      { platform: createPlatform({ now: () => timestamp, crypto: engine }) },
    );

  it.each([
    ["node", createNodeEngine(nodeCrypto)],
    ["web", createWebEngine(crypto.subtle)],
  ])("is made from the base string with both secrets (%s)", async (_, engine) => {
    const provider = fixed({}, 137_131_202, engine);
    const credentials = { token: "nnch734d00sl2jdk", tokenSecret: "pfkkdhi9sl3r4s00" };
    for (const [method, hash] of [
      ["HMAC-SHA1", "sha1"],
      ["HMAC-SHA256", "sha256"],
    ] as const) {
      const signed = await signOAuth1Request({ ...provider, signatureMethod: method }, credentials, {
        method: "GET",
        url: "http://photos.example.net/photos?file=vacation.jpg&size=original",
        headers: new Headers(),
      });
      const sent = headerOf(signed.headers);
      const text = signatureBaseString({
        method: "GET",
        url: signed.url,
        form: [],
        protocol: [...sent].filter(([name]) => name !== "oauth_signature"),
      });
      const key = "kd94hf93k423kf44&pfkkdhi9sl3r4s00";
      expect(sent.get("oauth_signature")).toBe(
        nodeCrypto.createHmac(hash, key).update(text).digest("base64"),
      );
      expect(sent.get("oauth_timestamp")).toBe("137131202");
      expect(sent.get("oauth_nonce")).toMatch(/^[\w-]{22}$/);
    }
  });

  it.each([
    // RFC 5849 section 1.2: the three requests of the example.
    [
      "POST",
      "https://photos.example.net/initiate",
      "",
      "137131200",
      "wIjqoS",
      [["oauth_callback", "http://printer.example.com/ready"]],
      "",
      "74KNZJeDHnMBp0EMJ9ZHt/XKycU=",
    ],
    [
      "POST",
      "https://photos.example.net/token",
      "hh5s93j4hdidpola",
      "137131201",
      "walatlh",
      [["oauth_verifier", "hfdp7dh39dks9884"]],
      "hdhd0244k9j7ao03",
      "gKgrFCywp7rO0OXSjdot/IHF7IU=",
    ],
    [
      "GET",
      "http://photos.example.net/photos?file=vacation.jpg&size=original",
      "nnch734d00sl2jdk",
      "137131202",
      "chapoH",
      [],
      "pfkkdhi9sl3r4s00",
      "MdpQcU8iPSUjWoN/UDMsK2sui9I=",
    ],
  ] as const)(
    "fits the example of the standard: %s %s",
    (method, url, token, timestamp, nonce, further, secret, signature) => {
      const text = signatureBaseString({
        method,
        url,
        form: [],
        protocol: [
          ["oauth_consumer_key", "dpf43f3p2l4k3l03"],
          ...(token === "" ? [] : [["oauth_token", token] as const]),
          ["oauth_signature_method", "HMAC-SHA1"],
          ["oauth_timestamp", timestamp],
          ["oauth_nonce", nonce],
          ...further,
        ],
      });
      const key = `kd94hf93k423kf44&${secret}`;
      expect(nodeCrypto.createHmac("sha1", key).update(text).digest("base64")).toBe(signature);
    },
  );

  it.each([
    ["node", createNodeEngine(nodeCrypto)],
    ["web", createWebEngine(crypto.subtle)],
  ])("with RSA-SHA1 is verified by the public key (%s)", async (_, engine) => {
    const { privateKey, publicKey } = newKeyPair("rsa", { modulusLength: 2048 });
    const jwk = { ...privateKey.export({ format: "jwk" }), alg: "RS256", kid: "archive" };
    const provider = fixed({ signatureMethod: "RSA-SHA1", clientKeys: JSON.stringify(jwk) }, noon, engine);
    const signed = await signOAuth1Request(provider, undefined, {
      method: "GET",
      url: `${wharf}/boxes`,
      headers: new Headers(),
    });
    const sent = headerOf(signed.headers);
    const protocol = [...sent].filter(([name]) => name !== "oauth_signature");
    const text = signatureBaseString({ method: "GET", url: signed.url, form: [], protocol });
    const isGood = createVerify("sha1")
      .update(text)
      .verify(publicKey, sent.get("oauth_signature") ?? "", "base64");
    expect(isGood).toBe(true);
  });

  it("in the clear is both secrets, encoded, without timestamp and nonce", async () => {
    const provider = fixed({ signatureMethod: "PLAINTEXT", clientSecret: "se&cret" }, noon);
    const signed = await signOAuth1Request(
      provider,
      { token: "t", tokenSecret: "ä" },
      {
        method: "GET",
        url: `${wharf}/boxes`,
        headers: new Headers(),
      },
    );
    const sent = headerOf(signed.headers);
    expect(sent.get("oauth_signature")).toBe("se%26cret&%C3%A4");
    expect([sent.has("oauth_timestamp"), sent.has("oauth_nonce")]).toEqual([false, false]);
  });

  it.each(["temporaryCredentialsEndpoint", "tokenEndpoint", "authorizationEndpoint"] as const)(
    "is for TLS: %s over http is refused",
    async (name) => {
      const { findings } = await problemOf(() =>
        fixed({ signatureMethod: "PLAINTEXT", [name]: "http://archive.example/x" }, noon),
      );
      expect(findings).toMatchObject([{ path: name }]);
    },
  );

  it("puts the parameters into the one place that the settings say", async () => {
    const request = {
      method: "POST",
      url: `${wharf}/boxes?shelf=a%20b`,
      headers: new Headers(),
      body: new URLSearchParams({ box: "ä" }),
    };
    const sign = async (changes: Partial<OAuth1Settings>) => {
      const signed = await signOAuth1Request(fixed(changes, noon), undefined, request);
      const places = [
        signed.headers.has("authorization"),
        new URL(signed.url).searchParams.has("oauth_signature"),
        typeof signed.body === "string" && signed.body.includes("oauth_signature="),
      ];
      return { places, signed };
    };
    const header = await sign({ realm: "Old Wharf" });
    expect(header.places).toEqual([true, false, false]);
    expect(header.signed.headers.get("authorization")).toMatch(
      /^OAuth realm="Old Wharf", oauth_consumer_key="/,
    );
    expect((await sign({ transmission: "query" })).places).toEqual([false, true, false]);
    const body = await sign({ transmission: "body" });
    expect(body.places).toEqual([false, false, true]);
    // 3.5.2: the request's own parameters come first.
    expect(body.signed.body).toMatch(/^box=%C3%A4&oauth_consumer_key=/);
    expect(body.signed.headers.get("content-type")).toBe("application/x-www-form-urlencoded");
    // Where there is no form there is nothing to put them into.
    const get = await signOAuth1Request(fixed({ transmission: "body" }, noon), undefined, {
      ...request,
      method: "GET",
      body: null,
    });
    expect(get.headers.has("authorization")).toBe(true);
  });

  it.each<[string, string, RequestInit]>([
    ["reserved names in the query", "/boxes?oauth_token=mine", {}],
    ["reserved names in the form", "/boxes", { body: new URLSearchParams({ oauth_verifier: "x" }) }],
    [
      "a form that cannot be read",
      "/boxes",
      { body: new Blob(["a=b"]), headers: { "content-type": "application/x-www-form-urlencoded" } },
    ],
  ])("refuses %s", async (_, path, init) => {
    const request = {
      method: "POST",
      url: wharf + path,
      headers: new Headers(init.headers),
      body: init.body ?? null,
    };
    const { code } = await problemOf(() => signOAuth1Request(fixed({}, noon), undefined, request));
    expect(code).toBe("oauth1.request-unsignable");
  });

  it("leaves a body of another kind as it is, and unsigned", async () => {
    const body = JSON.stringify({ box: 1 });
    const headers = new Headers({ "content-type": "application/json" });
    const signed = await signOAuth1Request(fixed({}, noon), undefined, {
      method: "POST",
      url: `${wharf}/boxes`,
      headers,
      body,
    });
    expect([signed.body, signed.headers.get("content-type")]).toEqual([body, "application/json"]);
    expect(headers.has("authorization")).toBe(false);
  });
});

describe("signing in", () => {
  const redirectUri = "https://ferrywell.example/sign-in/from/archive";
  const attempt = {
    issuer: wharf,
    clientId: "ferrywell",
    redirectUri,
    state: "t-1",
    tokenSecret: "s",
    beganAt: noon,
    expiresAt: noon + 600,
  };
  const temporary = { oauth_token: "t-1", oauth_token_secret: "s-1", oauth_callback_confirmed: "true" };

  it("goes to the provider with temporary credentials, and back to token credentials", async () => {
    const world = createFakeWorld();
    const provider = open(world);
    world.answers.set(`${wharf}/initiate`, form(temporary));
    world.answers.set(
      `${wharf}/token`,
      form({ oauth_token: "t-2", oauth_token_secret: "s-2", number: "41" }),
    );
    const { url, attempt } = await beginOAuth1SignIn(provider, { redirectUri });
    expect(url).toBe(`${wharf}/authorize?theme=plain&oauth_token=t-1`);
    const outcome = await finishOAuth1SignIn(
      provider,
      attempt,
      `${redirectUri}?oauth_token=t-1&oauth_verifier=v`,
    );
    expect(outcome).toMatchObject({
      kind: "granted",
      identity: { issuer: wharf, subject: "41", isProved: false },
      grant: { accessToken: "t-2", tokenSecret: "s-2" },
    });
    const [first, second] = world.requests.map(({ init }) => headerOf(new Headers(init.headers)));
    expect([first?.get("oauth_callback"), first?.has("oauth_token")]).toEqual([redirectUri, false]);
    expect([second?.get("oauth_token"), second?.get("oauth_verifier")]).toEqual(["t-1", "v"]);
    // Nothing secret is in what the trace is told.
    expect(JSON.stringify(world.events)).not.toMatch(/s-1|s-2|"t-2"|only-for-tests/);
  });

  it.each<[string, string, Response, string, RegExp, string?]>([
    [
      "a callback that is not confirmed",
      "/initiate",
      form({ ...temporary, oauth_callback_confirmed: "1" }),
      "oauth1.callback-unconfirmed",
      /"1"/,
    ],
    [
      "an empty token",
      "/initiate",
      form({ ...temporary, oauth_token: "" }),
      "oauth1.answer-refused",
      /initiate|temporary/,
    ],
    [
      "two secrets",
      "/initiate",
      form("oauth_token=a&oauth_token_secret=b&oauth_token_secret=c"),
      "oauth1.answer-refused",
      /2 oauth_token_secret/,
    ],
    ["a page", "/initiate", new Response("<p>"), "oauth1.answer-refused", /0 oauth_token/],
    [
      "a refusal",
      "/initiate",
      new Response("Invalid signature", { status: 401 }),
      "oauth1.credentials-refused",
      /Invalid signature/,
    ],
    [
      "a refusal with another time",
      "/initiate",
      new Response("", { status: 401, headers: { date: new Date((noon + 301) * 1000).toUTCString() } }),
      "oauth1.credentials-refused",
      /your clock is 301 s behind/,
      "clock",
    ],
    [
      "no such address",
      "/initiate",
      new Response("", { status: 404 }),
      "oauth1.credentials-refused",
      /404/,
      "not-there",
    ],
    [
      "a redirect",
      "/initiate",
      new Response(null, { status: 302, headers: { location: "/x" } }),
      "platform.redirected",
      /302/,
    ],
    ["too many", "/initiate", new Response("", { status: 429 }), "grant.unavailable", /429/],
  ])("does not begin after %s", async (_, path, answer, code, received, because) => {
    const world = createFakeWorld();
    world.answers.set(wharf + path, answer);
    const problem = await problemOf(() => beginOAuth1SignIn(open(world), { redirectUri }));
    expect(problem.code).toBe(code);
    expect(problem.received).toMatch(received);
    expect(problem.because).toBe(because);
  });

  it.each<[string, string, string]>([
    ["nothing", "", "response.empty"],
    ["no token", "oauth_verifier=v", "response.state-missing"],
    ["an empty token", "oauth_token=&oauth_verifier=v", "response.state-missing"],
    ["another token", "oauth_token=t-9&oauth_verifier=v", "response.state-altered"],
    ["two verifiers", "oauth_token=t-1&oauth_verifier=v&oauth_verifier=w", "response.parameter-duplicated"],
    ["two tokens", "oauth_token=t-1&oauth_token=t-1&oauth_verifier=v", "response.parameter-duplicated"],
    ["no verifier", "oauth_token=t-1", "oauth1.verifier-missing"],
    ["an empty verifier", "oauth_token=t-1&oauth_verifier=", "oauth1.verifier-missing"],
  ])("fails when %s comes back, and sends no request", async (_, query, code) => {
    const world = createFakeWorld();
    const provider = open(world);
    const outcome = await finishOAuth1SignIn(provider, attempt, new URLSearchParams(query));
    expect(outcome).toMatchObject({ kind: "failed", problem: { code } });
    expect(world.requests).toEqual([]);
    world.now += 600;
    expect(await finishOAuth1SignIn(provider, attempt, "/?oauth_token=t-1&oauth_verifier=v")).toMatchObject({
      kind: "failed",
      problem: { code: "response.attempt-too-old" },
    });
  });

  it("says which step it was that failed behind the first", async () => {
    const world = createFakeWorld();
    const back = "/?oauth_token=t-1&oauth_verifier=v";
    const end = () => finishOAuth1SignIn(open(world, { profile: { subject: "/number" } }), attempt, back);
    world.answers.set(`${wharf}/token`, new Response("verifier invalid", { status: 401 }));
    expect(await end()).toMatchObject({
      problem: {
        code: "oauth1.credentials-refused",
        because: "second",
        received: expect.stringContaining("verifier invalid") as string,
      },
    });
    world.answers.set(`${wharf}/token`, form({ oauth_token: "t-2", oauth_token_secret: "s-2" }));
    expect(await end()).toMatchObject({
      problem: { code: "identity.userinfo-refused", because: "no-endpoint", here: "Set `userinfoEndpoint`." },
    });
  });

  it("ends failed where there is no attempt any more, or no address", async () => {
    const provider = open(createFakeWorld());
    const back = "/?oauth_token=t-1&oauth_verifier=v";
    for (const none of [undefined, null, {}, "attempt"] as never[])
      expect(await finishOAuth1SignIn(provider, none, back)).toMatchObject({
        problem: { code: "response.state-altered", because: "no-attempt" },
      });
    for (const none of [undefined, new Request("https://ferrywell.example/"), "//", 7] as never[])
      expect(await finishOAuth1SignIn(provider, attempt, none)).toMatchObject({
        problem: { code: "response.empty", because: "no-address" },
      });
  });

  it("is declined where the provider's own parameter says so", async () => {
    const world = createFakeWorld();
    const provider = open(world, { declinedParameter: "denied" });
    expect(await finishOAuth1SignIn(provider, attempt, "/?denied=t-1")).toEqual({ kind: "declined" });
    expect(await finishOAuth1SignIn(provider, attempt, "/?denied=t-9")).toMatchObject({ kind: "failed" });
  });

  it.each<[string, Partial<OAuth1Settings>, string, RegExp]>([
    ["no secret", { clientSecret: undefined }, "clientSecret", /missing/],
    ["RSA without a key", { signatureMethod: "RSA-SHA1" }, "clientKeys", /missing[^:]* signs with it$/],
    ["an unknown method", { signatureMethod: "HMAC-MD5" as never }, "signatureMethod", /HMAC-SHA1/],
    ["a realm with a quote", { realm: 'a"b' }, "realm", /quotes/],
    ["a member that it does not have", { scope: "openid" } as never, "scope", /unknown setting/],
  ])("is not opened with %s", async (_, changes, path, message) => {
    const { findings } = await problemOf(() => open(createFakeWorld(), changes));
    expect(findings).toMatchObject([{ path, message: expect.stringMatching(message) as string }]);
  });

  it("is not opened with a key that is not RSA", async () => {
    const { privateKey } = newKeyPair("ec", { namedCurve: "P-256" });
    const jwk = JSON.stringify({ ...privateKey.export({ format: "jwk" }), alg: "ES256", kid: "k" });
    const { code } = await problemOf(() =>
      open(createFakeWorld(), { signatureMethod: "RSA-SHA1", clientKeys: jwk }),
    );
    expect(code).toBe("provider.client-key-refused");
  });
});
