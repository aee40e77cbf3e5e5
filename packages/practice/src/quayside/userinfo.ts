import type { Hono } from "hono";
import { checkProof } from "../dpop.js";
import { userinfoFaults } from "../faults.js";
import { encryptFor } from "./protect.js";
import { issuerOf, type Family, type QuaysideState } from "./state.js";

/** The userinfo endpoint: OpenID Connect Core 1.0 sections 5.3 and 5.4. */
export function addUserinfo(app: Hono, state: QuaysideState): void {
  app.on(["GET", "POST"], "/userinfo", async (c) => {
    const [, scheme = "", token = ""] =
      /^(Bearer|DPoP) ([\w.~+/-]+=*)$/i.exec(c.req.header("authorization") ?? "") ?? [];
    const payload = await state.keys.read(token);
    const family = state.accessTokens.get(String(payload?.["jti"]));
    const isGood = family && !family.isRevoked && Number(payload?.["exp"]) > state.now();
    // RFC 9449 7.1: a bound token takes a proof, and the scheme that says so.
    const isBound = family?.keyThumbprint !== undefined;
    if (isGood && isBound) {
      const context = {
        method: c.req.method,
        url: `${state.issuer}/userinfo`,
        now: state.now(),
        nonce: state.dpopNonce,
        used: state.proofs,
        accessToken: token,
      };
      const proof = await checkProof(c.req.header("dpop") ?? "", context);
      if (
        scheme.toLowerCase() !== "dpop" ||
        proof.kind === "refused" ||
        proof.thumbprint !== family.keyThumbprint
      ) {
        const error = proof.kind === "refused" ? proof.error : "invalid_token";
        c.header("dpop-nonce", state.dpopNonce);
        c.header("www-authenticate", `DPoP error="${error}"`);
        return c.body(null, 401);
      }
    }
    if (!isGood) {
      c.header("www-authenticate", `Bearer${token === "" ? "" : ' error="invalid_token"'}`);
      return c.body(null, 401);
    }
    c.header("cache-control", "no-store");
    const fault = state.rehearsal ?? family.rehearsal;
    const change = fault === undefined ? undefined : userinfoFaults[fault];
    const claims = { sub: family.person.subject, ...scopeClaims(state, family) };
    if (change) return change(claims);
    const { client } = family;
    if (!client.encryptionKey) return c.json(claims);
    // Core 5.3.2: for this client, by this issuer, as a JWT.
    const signed = { ...claims, iss: issuerOf(state, family.person), aud: client.clientId };
    const encrypted = await encryptFor(client, await state.keys.sign(signed, "JWT"), fault);
    return c.body(encrypted, 200, { "content-type": "application/jwt" });
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

/** What the scopes allow to be told of a person: OpenID Connect Core 1.0 section 5.4. */
export function scopeClaims({ issuer }: QuaysideState, { person, scope }: Family): object {
  const { name, email, picture, roles } = person;
  return {
    ...(scope.includes("profile") && {
      name,
      roles,
      ...(picture !== undefined && { picture: issuer + picture }),
    }),
    ...(scope.includes("email") && email !== undefined && { email, email_verified: true }),
  };
}
