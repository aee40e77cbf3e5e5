import { describe, expect, it } from "vitest";
import { problemOf } from "../../../../../tests/support/fake-world.js";
import { createTools } from "../../trace/index.js";
import { createPlatform, limits } from "../../platform/index.js";
import { createOriginReader, notePeer, originsOf, type Whence } from "./public-origin.js";
import { readSignInSettings } from "../settings/settings.js";
import type { ResolvedSignInSettings } from "../settings/settings-types.js";

type Proxies = NonNullable<ResolvedSignInSettings["proxies"]>;
const origin = "https://ferrywell.example";
const base: Proxies = { header: "forwarded", otherOrigins: ["https://club.ferrywell.example"] };

const read = (...args: Parameters<typeof whenceOf>): string => whenceOf(...args).origin;
function whenceOf(
  proxies: Partial<Proxies>,
  headers: Readonly<Record<string, string>>,
  peer: string | null = "10.0.0.1",
): Whence {
  const readOrigin = createOriginReader(createTools(), { origin, proxies: { ...base, ...proxies } });
  const request = new Request("http://localhost:3000/sign-in", {
    headers: { host: "localhost:3000", ...headers },
  });
  notePeer(request, peer ?? undefined);
  return readOrigin(request);
}
const refusal = (...args: Parameters<typeof read>) => problemOf(() => read(...args));
it.each<[string, boolean]>([
  ["10.0.0.1", true],
  ["::ffff:10.0.0.1", true],
  ["10.0.0.2", false],
  ["11.0.0.1", false],
  ["2001:db8::7", true],
  ["2001:db8::8", false],
  ["a pipe", false],
])("a proxy that is named by its one address is that one and no other: %s", async (peer, isNamed) => {
  const headers = { forwarded: "for=192.0.2.9;proto=https;host=club.ferrywell.example" };
  const proxies = { addresses: ["10.0.0.1", "2001:db8::7"] };
  if (isNamed) expect(read(proxies, headers, peer)).toBe("https://club.ferrywell.example");
  else expect((await refusal(proxies, headers, peer)).code).toMatch(/^server\./);
});
const named = { addresses: ["10.0.0.0/8", "2001:db8::/32"] };

describe("the origin of a request", () => {
  it("is the one in the settings where no proxies are named, whatever headers say", () => {
    const readOrigin = createOriginReader(createTools(), { origin });
    const headers = { forwarded: "proto=http;host=evil.example", "x-forwarded-host": "evil.example" };
    expect(readOrigin(new Request("http://localhost:3000/", { headers })).origin).toBe(origin);
  });

  it.each<[string, Partial<Proxies>, Record<string, string>, string]>([
    ["Forwarded", named, { forwarded: "for=192.0.2.9;proto=https;host=ferrywell.example" }, origin],
    [
      "Forwarded, quoted and in another order",
      named,
      { forwarded: 'Host="club.ferrywell.example";For="[2001:db9::1]:4711";Proto=HTTPS' },
      "https://club.ferrywell.example",
    ],
    [
      "Forwarded with separators inside quotes",
      named,
      { forwarded: 'for="_a,b;c\\"d";proto=https;host=ferrywell.example' },
      origin,
    ],
    [
      "Forwarded of two named proxies: the outer one's",
      named,
      {
        forwarded:
          'for=192.0.2.9;proto=https;host=ferrywell.example, for="10.2.0.1:80";proto=http;host=inner',
      },
      origin,
    ],
    [
      "X-Forwarded-*",
      { ...named, header: "x-forwarded" },
      {
        "x-forwarded-for": "192.0.2.9",
        "x-forwarded-proto": "https",
        "x-forwarded-host": "ferrywell.example",
      },
      origin,
    ],
    [
      "X-Forwarded-Proto with the host passed on as it is",
      { ...named, header: "x-forwarded" },
      { "x-forwarded-for": "192.0.2.9", "x-forwarded-proto": "https", host: "ferrywell.example" },
      origin,
    ],
    [
      "X-Forwarded-* of two proxies, of which one said what",
      { header: "x-forwarded", hops: 2 },
      {
        "x-forwarded-for": "192.0.2.9, 10.2.0.1",
        "x-forwarded-proto": "https",
        "x-forwarded-host": "ferrywell.example",
      },
      origin,
    ],
    [
      "a proxy that is named by its address",
      { addresses: ["10.0.0.1"] },
      { forwarded: "proto=https;host=ferrywell.example" },
      origin,
    ],
    [
      "X-Forwarded-* as lists: what belongs to the proxy that counts",
      { header: "x-forwarded", hops: 2 },
      {
        "x-forwarded-for": "198.51.100.1, 192.0.2.9, 10.2.0.1",
        "x-forwarded-proto": "gopher, https, http",
        "x-forwarded-host": "evil.example, ferrywell.example, inner",
      },
      origin,
    ],
    [
      "Forwarded of as many proxies as may be",
      { hops: 20 },
      {
        forwarded: [
          "proto=https;host=ferrywell.example",
          ...Array.from({ length: 19 }, () => "for=_a"),
        ].join(),
      },
      origin,
    ],
    [
      "the hop that is always there",
      { hops: 1 },
      { forwarded: "proto=https;host=ferrywell.example" },
      origin,
    ],
    [
      "the outer one of two hops",
      { hops: 2 },
      { forwarded: "proto=https;host=ferrywell.example, proto=http;host=inner" },
      origin,
    ],
    [
      "a port that goes without saying",
      { hops: 1 },
      { forwarded: 'proto=https;host="ferrywell.example:443"' },
      origin,
    ],
  ])("is taken from %s", (_, proxies, headers, expected) => {
    expect(read(proxies, headers)).toBe(expected);
  });

  it.each<[string, Partial<Proxies>, string, string | undefined]>([
    ["the address that the outermost named proxy saw", named, "for=192.0.2.9;proto=https", "192.0.2.9"],
    ["that address without its port", named, 'for="192.0.2.9:4711";proto=https', "192.0.2.9"],
    ["an IPv6 address without brackets and port", named, 'for="[2001:db9::1]:80";proto=https', "2001:db9::1"],
    ["an IPv6 address without brackets", named, 'for="[2001:db9::1]";proto=https', "2001:db9::1"],
    [
      "what the outer of two named proxies saw, the inner one of version 6",
      named,
      'for=192.0.2.9;proto=https, for="[2001:db8::9]:80";proto=http',
      "192.0.2.9",
    ],
    [
      "what stands behind a backslash that is not in quotes",
      { hops: 1 },
      "for=192.0.2.66\\, for=192.0.2.9;proto=https",
      "192.0.2.9",
    ],
    ["a name with quotes in it", { hops: 1 }, 'for="_a\\"b\\\\";proto=https', '_a"b\\'],
    ["nothing, where the proxy did not say", { hops: 1 }, "proto=https", undefined],
  ])("comes with the peer: %s", (_, proxies, forwarded, peer) => {
    expect(whenceOf(proxies, { forwarded, host: "ferrywell.example" }).peer).toBe(peer);
  });

  it.each<[string, string]>([
    ["::ffff:10.0.0.1", "an IPv4 address as a listener for both families sees it"],
    ["2001:db8::7", "an IPv6 address"],
  ])("takes the proxy %s, %s", (peer) => {
    expect(read(named, { forwarded: "for=192.0.2.9;proto=https;host=ferrywell.example" }, peer)).toBe(origin);
  });

  describe("is refused", () => {
    it.each<[string, Partial<Proxies>, Record<string, string>, string | null]>([
      [
        "from a proxy that is not named",
        named,
        { forwarded: "proto=https;host=ferrywell.example" },
        "192.0.2.1",
      ],
      [
        "from the neighbour of a proxy that is named by its address",
        { addresses: ["10.0.0.1"] },
        { forwarded: "proto=https;host=ferrywell.example" },
        "10.0.0.2",
      ],
      ["from nobody knows where", named, { forwarded: "proto=https;host=ferrywell.example" }, null],
      [
        "when a visitor wrote the element before the named proxy's",
        named,
        { forwarded: "proto=https;host=ferrywell.example, for=192.0.2.9;proto=http;host=ferrywell.example" },
        "10.0.0.1",
      ],
      [
        "for a host that is not in the settings",
        { hops: 1 },
        { forwarded: "proto=https;host=evil.example" },
        "10.0.0.1",
      ],
      [
        "for a host that only looks like it",
        { hops: 1 },
        { forwarded: 'proto=https;host="ferrywell.example@evil.example"' },
        "10.0.0.1",
      ],
      [
        "with fewer hops than there always are",
        { hops: 2 },
        { forwarded: "proto=https;host=ferrywell.example" },
        "10.0.0.1",
      ],
      [
        "from the header that is not named",
        { hops: 1 },
        { "x-forwarded-for": "192.0.2.9", "x-forwarded-proto": "https", host: "ferrywell.example" },
        "10.0.0.1",
      ],
      ["for nonsense", { hops: 1 }, { forwarded: ';;=,"' }, "10.0.0.1"],
      [
        "when a visitor's open quote swallows what the proxy says",
        { hops: 1 },
        {
          forwarded:
            'for=192.0.2.66;proto=https;host=club.ferrywell.example;x=", for=192.0.2.9;proto=https;host=ferrywell.example',
        },
        "10.0.0.1",
      ],
      [
        "when a visitor's open quote ends where the proxy's begins",
        { hops: 1 },
        {
          forwarded:
            'for=192.0.2.66;proto=https;host=club.ferrywell.example;x="\\, for="[2001:db9::1]";proto=https;host=ferrywell.example',
        },
        "10.0.0.1",
      ],
    ])("%s", async (_, proxies, headers, peer) => {
      expect((await refusal(proxies, headers, peer)).code).toBe("server.origin-unknown");
    });

    it("of one proxy more than there may be, and of a header longer than it may be", async () => {
      const forwarded = Array.from({ length: 21 }, () => "for=_a").join();
      expect((await refusal({ hops: 1 }, { forwarded })).code).toBe("server.request-too-large");
      const long = (length: number) => {
        const said = "proto=https;host=ferrywell.example;x=";
        return { forwarded: said + "x".repeat(length - said.length) };
      };
      expect(read({ hops: 1 }, long(limits.forwardedHeader))).toBe(origin);
      const { code, received } = await refusal({ hops: 1 }, long(limits.forwardedHeader + 1));
      expect(code).toBe("server.request-too-large");
      expect(received).toContain(String(limits.forwardedHeader + 1));
    });

    it("with advice that fits: the scheme is missing, no proxy was recognised, or the host is new", async () => {
      const lostScheme = await refusal(
        { ...named, header: "x-forwarded" },
        { "x-forwarded-for": "192.0.2.9", host: "ferrywell.example" },
      );
      expect(lostScheme.here).toContain("X-Forwarded-Proto: https");
      expect(lostScheme.received).toBe('"http://ferrywell.example"');
      const unnamed = await refusal(named, { host: "ferrywell.example" }, "192.0.2.1");
      expect(unnamed.here).toContain("Let the proxy write Forwarded;");
      for (const proxies of [{ hops: 1 }, { header: "x-forwarded", hops: 1 } as const])
        expect((await refusal(proxies, { host: "ferrywell.example" })).received).toContain(
          `and nothing that counts in ${"header" in proxies ? "X-Forwarded" : "Forwarded"}`,
        );
      const other = await refusal({ hops: 1 }, { forwarded: "proto=https;host=www.ferrywell.example" });
      expect(other.here).toContain("otherOrigins");
      const plain = await refusal({ hops: 1 }, { forwarded: "proto=http;host=www.ferrywell.example" });
      expect(plain.here).toContain("otherOrigins");
      expect(other.expected).toBe(`${origin} or https://club.ferrywell.example`);
    });

    it.each<[string, Partial<Proxies>, string, string | null, string]>([
      [
        "another header",
        { hops: 1 },
        "x-forwarded-for",
        "10.0.0.1",
        "the header X-Forwarded-For, and `header` says",
      ],
      ["fewer proxies", { hops: 2 }, "forwarded", "10.0.0.1", "of fewer proxies than `hops`, 2"],
      ["another address", named, "forwarded", "192.0.2.1", 'it comes from "192.0.2.1", which is none'],
      ["no adapter", named, "forwarded", null, "nobody has said whom it comes from"],
      ["an open quote", named, "forwarded", "10.0.0.1", "its Forwarded cannot be read"],
    ])("where what proxies wrote counts for nothing, why: %s", async (_, proxies, name, peer, why) => {
      const headers = {
        [name]: why.includes("read") ? 'for="x' : "for=192.0.2.9",
        host: "ferrywell.example",
      };
      const { received, here } = await refusal(proxies, headers, peer);
      expect([received, here]).toEqual([
        expect.stringContaining(why),
        expect.stringContaining("Correct `proxies`"),
      ]);
      // Where it is let in all the same, it is said once.
      const printed: string[] = [];
      const tools = createTools({ platform: createPlatform({ print: (line) => void printed.push(line) }) });
      const readOrigin = createOriginReader(tools, {
        origin: "http://ferrywell.example",
        proxies: { ...base, ...proxies },
      });
      for (let count = 0; count < 2; count += 1) {
        const request = new Request("http://localhost:3000/", { headers });
        notePeer(request, peer ?? undefined);
        expect(readOrigin(request).origin).toBe("http://ferrywell.example");
      }
      expect([printed.length, printed[0]]).toEqual([1, expect.stringContaining(why)]);
    });
  });
});

describe("the setting `proxies`", () => {
  const settingsWith = (proxies: object) =>
    readSignInSettings({
      origin,
      proxies,
      providers: { quayside: { issuer: "https://id.quayside.example", clientId: "ferrywell" } },
    });

  it.each<[string, object, string]>([
    ["neither addresses nor hops", { header: "forwarded" }, "one of the two"],
    ["both", { header: "forwarded", addresses: ["10.0.0.1"], hops: 1 }, "one of the two"],
    ["no header", { hops: 1 }, "missing"],
    ["a name for an address", { header: "forwarded", addresses: ["proxy.example"] }, "IP address"],
    ["a range that is none", { header: "forwarded", addresses: ["10.0.0.0/40"] }, "IP address"],
    ["no hop", { header: "forwarded", hops: 0 }, "at least 1"],
  ])("refuses %s", async (_, proxies, message) => {
    const { findings } = await problemOf(() => settingsWith(proxies));
    expect(findings?.map((each) => each.message).join()).toContain(message);
  });

  it("names all origins there are", () => {
    expect(
      originsOf(settingsWith({ header: "forwarded", hops: 1, otherOrigins: ["https://club.example"] })),
    ).toEqual([origin, "https://club.example"]);
  });
});
