import { timingSafeEqual } from "node:crypto";
import { setTimeout as wait } from "node:timers/promises";
import type { Context, Hono } from "hono";
import {
  issuerOf,
  randomText,
  sha256,
  type Client,
  type Family,
  type IssuedCode,
  type QuaysideState,
} from "./state.js";

/** Longer than any app should wait. */
const slowSeconds = 15;

/** An error answer of RFC 6749 section 5.2. */
class TokenError extends Error {
  readonly error: string;
  readonly status: 400 | 401;

  constructor(error: string, description: string, status: 400 | 401 = 400) {
    super(description);
    this.error = error;
    this.status = status;
  }
}

/** The token and revocation endpoints: RFC 6749 sections 3.2, 4.1.3 and 6, RFC 7636 section 4.6, RFC 7009. */
export function addToken(app: Hono, state: QuaysideState): void {
  app.post("/token", async (c) => {
    c.header("cache-control", "no-store");
    const form = new URLSearchParams(await c.req.text());
    const grantType = form.get("grant_type");
    const sought =
      state.codes.get(form.get("code") ?? "")?.family ??
      state.refreshTokens.get(form.get("refresh_token") ?? "");
    const fault = state.rehearsal ?? sought?.rehearsal;
    // A fault chosen on the sign-in page is that sign-in's; it does not go on to its refreshes.
    const isPlayed = state.rehearsal !== undefined || grantType === "authorization_code";
    if (fault === "token-endpoint-500" && isPlayed) return c.text("Out of order (a rehearsal).", 500);
    if (fault === "token-endpoint-slow" && isPlayed) {
      await wait(slowSeconds * 1000, undefined, { signal: state.ended }).catch(() => undefined);
    }
    return respond(c, async () => {
      const client = authenticate(state, c, form);
      if (grantType === "authorization_code") return redeemCode(state, client, form);
      if (grantType === "refresh_token") return refresh(state, client, form);
      if (grantType === "client_credentials") return issueMachineToken(state, client, form);
      throw new TokenError(
        "unsupported_grant_type",
        "authorization_code, refresh_token and client_credentials are offered.",
      );
    });
  });

  app.post("/revoke", async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(c, async () => {
      const client = authenticate(state, c, form);
      const token = form.get("token") ?? "";
      const payload = await state.keys.read(token);
      const family = state.refreshTokens.get(token) ?? state.accessTokens.get(String(payload?.["jti"]));
      // RFC 7009 2.1: only the client the token was issued to; 2.2: unknown tokens are fine.
      if (family?.client === client) family.isRevoked = true;
      return {};
    });
  });
}

async function respond(c: Context, work: () => Promise<object>): Promise<Response> {
  try {
    return c.json(await work());
  } catch (error) {
    if (!(error instanceof TokenError)) throw error;
    if (error.status === 401) c.header("www-authenticate", 'Basic realm="practice"');
    return c.json({ error: error.error, error_description: error.message }, error.status);
  }
}

/** RFC 6749 2.3.1: Basic with form-encoded parts, or in the body; a public client only names itself. */
function authenticate(state: QuaysideState, c: Context, form: URLSearchParams): Client {
  const header = c.req.header("authorization");
  const refuse = (why: string) => new TokenError("invalid_client", why, 401);
  let [id, secret] = [form.get("client_id") ?? "", form.get("client_secret") ?? undefined];
  if (header !== undefined) {
    const [, credentials = ""] = /^Basic ([A-Za-z0-9+/=]+)$/i.exec(header) ?? [];
    const [first = "", second = ""] = Buffer.from(credentials, "base64").toString("latin1").split(":");
    const decode = (part: string) => new URLSearchParams(`v=${part}`).get("v") ?? "";
    if (secret !== undefined) throw new TokenError("invalid_request", "Two ways of authentication at once.");
    [id, secret] = [decode(first), decode(second)];
  }
  const client = state.clients.get(id);
  if (!client) throw refuse("This client is not registered.");
  if (client.clientSecret === undefined) return client;
  if (secret === undefined) throw refuse("This client has to authenticate.");
  if (!timingSafeEqual(sha256(secret), sha256(client.clientSecret))) throw refuse("The secret is wrong.");
  return client;
}

async function redeemCode(state: QuaysideState, client: Client, form: URLSearchParams): Promise<object> {
  const code = state.codes.get(form.get("code") ?? "");
  if (code?.family.client !== client)
    throw new TokenError("invalid_grant", "This code was not issued to this client.");
  // RFC 6749 4.1.2: a code that comes twice ends what came of it.
  if (code.isUsed) {
    code.family.isRevoked = true;
    throw new TokenError("invalid_grant", "This code was used already.");
  }
  code.isUsed = true;
  if (code.expiresAt < state.now()) throw new TokenError("invalid_grant", "This code has expired.");
  if (code.redirectUri !== form.get("redirect_uri")) {
    throw new TokenError("invalid_grant", "redirect_uri is not that of the authorization request.");
  }
  if (sha256(form.get("code_verifier") ?? "").toString("base64url") !== code.codeChallenge) {
    throw new TokenError("invalid_grant", "code_verifier does not fit the code_challenge.");
  }
  const fault = state.rehearsal ?? code.family.rehearsal;
  if (fault === "key-rotated") await state.keys.rotate();
  const tokens = await issueTokens(state, code.family);
  return { ...tokens, id_token: await issueIdToken(state, code, tokens.access_token, fault) };
}

async function refresh(state: QuaysideState, client: Client, form: URLSearchParams): Promise<object> {
  const token = form.get("refresh_token") ?? "";
  const family = state.refreshTokens.get(token);
  if (family?.client !== client || family.isRevoked) {
    throw new TokenError("invalid_grant", "This refresh token is not good any more.");
  }
  // RFC 9700 4.14.2: a spent token that comes again was stolen from one of the two; the whole family ends.
  if (family.refreshToken !== token) {
    family.isRevoked = true;
    throw new TokenError("invalid_grant", "This refresh token was used already; the connection is ended.");
  }
  return issueTokens(state, family);
}

async function issueTokens(state: QuaysideState, family: Family) {
  const { accessTokenSeconds } = state.lifetimes;
  const now = Math.floor(state.now());
  const jti = randomText();
  state.accessTokens.set(jti, family);
  // RFC 9068 2.2: the JWT profile for access tokens.
  const accessToken = await state.keys.sign(
    {
      iss: issuerOf(state, family.person),
      sub: family.person.subject,
      aud: state.audience,
      client_id: family.client.clientId,
      scope: family.scope.join(" "),
      iat: now,
      exp: now + accessTokenSeconds,
      jti,
    },
    "at+jwt",
  );
  const tokens = {
    access_token: accessToken,
    token_type: "Bearer",
    expires_in: accessTokenSeconds,
    scope: family.scope.join(" "),
  };
  if (!family.scope.includes("offline_access")) return tokens;
  const refreshToken = randomText();
  family.refreshToken = refreshToken;
  state.refreshTokens.set(refreshToken, family);
  return { ...tokens, refresh_token: refreshToken };
}

const machineScopes = ["slipway.status"];

/** RFC 6749 section 4.4: for a client that can prove itself, without a person and without a refresh token. */
async function issueMachineToken(
  state: QuaysideState,
  client: Client,
  form: URLSearchParams,
): Promise<object> {
  if (client.clientSecret === undefined) {
    throw new TokenError("unauthorized_client", "A public client cannot act for itself.");
  }
  const scope = (form.get("scope") ?? "").split(" ").filter((part) => part !== "");
  if (scope.length === 0 || scope.some((part) => !machineScopes.includes(part))) {
    throw new TokenError("invalid_scope", `For machines there is: ${machineScopes.join(" ")}.`);
  }
  const { accessTokenSeconds } = state.lifetimes;
  const now = Math.floor(state.now());
  // RFC 9068 2.2: without a person the subject is the client.
  const payload = {
    iss: state.issuer,
    sub: client.clientId,
    aud: state.machineAudience,
    client_id: client.clientId,
    scope: scope.join(" "),
    iat: now,
    exp: now + accessTokenSeconds,
    jti: randomText(),
  };
  const access_token = await state.keys.sign(payload, "at+jwt");
  return { access_token, token_type: "Bearer", expires_in: accessTokenSeconds, scope: scope.join(" ") };
}

/** OpenID Connect Core 1.0 section 2, with the fault of the rehearsal, if any. */
async function issueIdToken(
  state: QuaysideState,
  code: IssuedCode,
  accessToken: string,
  fault: string | undefined,
): Promise<string> {
  const { person, client, authenticatedAt } = code.family;
  const now =
    Math.floor(state.now()) - (fault === "id-token-expired" ? 3600 + state.lifetimes.idTokenSeconds : 0);
  return state.keys.sign(
    {
      iss: issuerOf(state, person),
      sub: person.subject,
      aud: fault === "audience-wrong" ? "some-other-client" : client.clientId,
      iat: now,
      exp: now + state.lifetimes.idTokenSeconds,
      auth_time: authenticatedAt,
      ...(state.hasOrganisations && { roles: person.roles }),
      ...(code.nonce !== undefined && { nonce: fault === "nonce-wrong" ? randomText() : code.nonce }),
      // Core 3.1.3.6; for Ed25519 it is left out, which the code flow allows.
      ...(state.keys.algorithm !== "EdDSA" && {
        at_hash: sha256(accessToken).subarray(0, 16).toString("base64url"),
      }),
    },
    "JWT",
  );
}
