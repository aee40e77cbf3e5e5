import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { parseChallenges } from "./challenges.js";

describe("parseChallenges", () => {
  it.each<[string, ReturnType<typeof parseChallenges>]>([
    ["Negotiate", [{ scheme: "negotiate", parameters: {} }]],
    ["Basic QWxhZGRpbjpvcGVu==", [{ scheme: "basic", parameters: {}, token68: "QWxhZGRpbjpvcGVu==" }]],
    [
      // RFC 9110 section 11.6.1, with a scheme in capitals.
      'NEWAUTH realm="apps", type=1, title="Login to \\"apps\\"", Basic realm="simple"',
      [
        { scheme: "newauth", parameters: { realm: "apps", type: "1", title: 'Login to "apps"' } },
        { scheme: "basic", parameters: { realm: "simple" } },
      ],
    ],
    [
      ', Bearer error = "insufficient_scope" ,scope="a,b" , DPoP algs="ES256 PS256", Negotiate,',
      [
        { scheme: "bearer", parameters: { error: "insufficient_scope", scope: "a,b" } },
        { scheme: "dpop", parameters: { algs: "ES256 PS256" } },
        { scheme: "negotiate", parameters: {} },
      ],
    ],
    ['Bearer error="invalid_token", Error="insufficient_scope"', []],
    ['Basic realm="a", Bearer error="unclosed', [{ scheme: "basic", parameters: { realm: "a" } }]],
    ["", []],
    ['"quoted"', []],
  ])("reads %j", (header, expected) => {
    expect(parseChallenges(header)).toEqual(expected);
  });

  it("reads what it would write, throws at nothing, and takes no time", () => {
    const token = fc.stringMatching(/^[A-Za-z][\w-]{0,8}$/);
    const pairs = fc.dictionary(
      token.map((name) => name.toLowerCase()),
      fc.stringMatching(/^[ -~]{0,20}$/),
      { minKeys: 1, maxKeys: 3 },
    );
    fc.assert(
      fc.property(fc.array(fc.tuple(token, pairs), { minLength: 1, maxLength: 3 }), (challenges) => {
        const text = challenges
          .map(([scheme, parameters]) => {
            const written = Object.entries(parameters).map(
              ([name, value]) => `${name}="${value.replace(/["\\]/g, "\\$&")}"`,
            );
            return `${scheme} ${written.join(", ")}`;
          })
          .join(", ");
        expect(parseChallenges(text)).toEqual(
          challenges.map(([scheme, parameters]) => ({
            scheme: scheme.toLowerCase(),
            parameters: { ...parameters },
          })),
        );
      }),
    );
    fc.assert(
      fc.property(fc.string({ unit: "binary", maxLength: 200 }), (text) => void parseChallenges(text)),
    );
    const before = process.cpuUsage();
    for (const piece of [" ", ",", '"', '\\"', 'a="', "a=b,", "a ", "=", 'a="\\'])
      parseChallenges(piece.repeat(16_384 / piece.length));
    expect(process.cpuUsage(before).user).toBeLessThan(1_000_000);
  });
});
