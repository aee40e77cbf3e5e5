import type { Hono } from "hono";
import { authenticate, respond } from "./authenticate.js";
import type { QuaysideState } from "./state.js";
import { makeToken, type TokenWish } from "../tokens.js";

/** The introspection endpoint (RFC 7662 section 2), for clients that can prove themselves; and tokens to wish for. */
export function addIntrospect(app: Hono, state: QuaysideState): void {
  app.post("/introspect", async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(c, async () => {
      await authenticate(state, c, form);
      const token = form.get("token") ?? "";
      const claims = state.opaqueTokens.get(token) ?? (await state.keys.read(token));
      // 2.2: of a token that is not good any more no more than that is said.
      const isActive =
        claims !== undefined &&
        Number(claims["exp"]) > state.now() &&
        state.accessTokens.get(String(claims["jti"]))?.isRevoked !== true;
      return isActive ? { ...claims, active: true } : { active: false };
    });
  });
  // For practice: any token, right or wrong, for whoever asks on this machine.
  app.post("/practice/tokens", async (c) => {
    const wish = await c.req.json<TokenWish>();
    c.header("cache-control", "no-store");
    return c.json({ token: await makeToken(state, wish) });
  });
}
