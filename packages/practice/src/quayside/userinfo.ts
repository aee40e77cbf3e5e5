import type { Hono } from "hono";
import type { QuaysideState } from "./state.js";

/** The userinfo endpoint: OpenID Connect Core 1.0 sections 5.3 and 5.4. */
export function addUserinfo(app: Hono, state: QuaysideState): void {
  app.on(["GET", "POST"], "/userinfo", async (c) => {
    const [, token = ""] = /^Bearer ([\w.~+/-]+=*)$/i.exec(c.req.header("authorization") ?? "") ?? [];
    const payload = await state.keys.read(token);
    const family = state.accessTokens.get(String(payload?.["jti"]));
    const isGood = family && !family.isRevoked && Number(payload?.["exp"]) > state.now();
    if (!isGood) {
      c.header("www-authenticate", `Bearer${token === "" ? "" : ' error="invalid_token"'}`);
      return c.body(null, 401);
    }
    const { subject, name, email, picture, roles } = family.person;
    const has = (scope: string) => family.scope.includes(scope);
    c.header("cache-control", "no-store");
    return c.json({
      sub: subject,
      ...(has("profile") && {
        name,
        roles,
        ...(picture !== undefined && { picture: state.issuer + picture }),
      }),
      ...(has("email") && email !== undefined && { email, email_verified: true }),
    });
  });

  app.get("/pictures/:file{[a-z]+\\.svg}", (c) => {
    const person = state.people.find(({ picture }) => picture === `/pictures/${c.req.param("file")}`);
    if (!person) return c.notFound();
    const hue = (person.subject.charCodeAt(person.subject.length - 1) * 67) % 360;
    c.header("content-type", "image/svg+xml");
    return c.body(
      `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 96 96"><rect width="96" height="96" fill="hsl(${hue} 35% 40%)"/><text x="48" y="62" text-anchor="middle" font-family="sans-serif" font-size="40" fill="#fff">${person.name.charAt(0)}</text></svg>`,
    );
  });
}
