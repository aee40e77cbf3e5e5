import { describe, expect, it } from "vitest";
import { createCookies, longestCookieHeader } from "./cookie.js";

const origin = "http://localhost:5173";
const cookies = createCookies(origin);
const [mine, other] = ["a".repeat(43), "b".repeat(43)];
const read = (cookie: string, from = cookies) =>
  from.read(new Request(origin, { headers: { cookie } }), "session");

describe("a session's cookie", () => {
  it.each([
    ["alone", `tenonsaw-session=${mine}`],
    ["among others", `theme=dark; tenonsaw-session=${mine}; tenonsaw-browser=${other}`],
    ["without spaces between them", `theme=dark;tenonsaw-session=${mine};x=y`],
    ["after one without a value", `flag; tenonsaw-session=${mine}`],
    ["in a header as long as may be", `tenonsaw-session=${mine}; x=`.padEnd(longestCookieHeader, "y")],
    ["first of two of the name", `tenonsaw-session=${mine}; tenonsaw-session=${other}`],
  ])("is read %s", (_, header) => {
    expect(read(header)).toBe(mine);
  });

  it.each([
    ["of another name that ends alike", `x-tenonsaw-session=${mine}`],
    ["within another's value", `theme=tenonsaw-session=${mine}`],
    ["behind a spoilt one of the name", `tenonsaw-session=spoilt; tenonsaw-session=${mine}`],
    ["cut short", `tenonsaw-session=${mine.slice(1)}`],
    ["with more behind it", `tenonsaw-session=${mine}a`],
    ["quoted", `tenonsaw-session="${mine}"`],
    ["encoded", `tenonsaw-session=%61${mine.slice(1)}`],
    ["in a header past all measure", `x=${"y".repeat(longestCookieHeader)}; tenonsaw-session=${mine}`],
  ])("is not read %s", (_, header) => {
    expect(read(header)).toBeUndefined();
  });

  it("has a name on https that no other host and no http page can set", () => {
    const secure = createCookies("https://ferrywell.example");
    expect(secure.write("session", mine)).toBe(
      `__Host-tenonsaw-session=${mine}; Path=/; HttpOnly; Secure; SameSite=Lax`,
    );
    expect(read(`tenonsaw-session=${other}; __Host-tenonsaw-session=${mine}`, secure)).toBe(mine);
    expect(read(`tenonsaw-session=${other}`, secure)).toBeUndefined();
    expect(secure.clear("session")).toMatch(/=; Max-Age=0; /);
  });
});
