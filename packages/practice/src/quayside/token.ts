import { createHash } from "node:crypto";
import { setTimeout as wait } from "node:timers/promises";
import type { Hono } from "hono";
import { authenticate, readProof, respond, TokenError } from "./authenticate.js";
import { answerFaults, idTokenFaults } from "../faults.js";
import type { RehearsalName } from "../rehearsals.js";
import { encryptFor } from "./protect.js";
import { deviceIntervalSeconds } from "./device.js";
import { deviceGrantType, exchangeGrantType, grantTypes } from "./metadata.js";
import { peerCertificate } from "../peer-certificate.js";
import { randomText } from "../random-text.js";
import { issuerOf, sha256, type Client, type Family, type QuaysideState } from "./state.js";

/** Longer than any app should wait. */
const slowSeconds = 15;

/** The token and revocation endpoints: RFC 6749 sections 3.2, 4.1.3 and 6, RFC 7636 section 4.6, RFC 7009. */
export function addToken(app: Hono, state: QuaysideState): void {
  app.post("/token", async (c) => {
    const form = new URLSearchParams(await c.req.text());
    const grantType = form.get("grant_type");
    const sought =
      state.codes.get(form.get("code") ?? "")?.family ??
      state.refreshTokens.get(form.get("refresh_token") ?? "");
    const fault = state.rehearsal ?? sought?.rehearsal;
    // A fault chosen on the sign-in page is that sign-in's; it does not go on to its refreshes.
    const isPlayed = state.rehearsal !== undefined || grantType === "authorization_code";
    if (fault === "token-endpoint-slow" && isPlayed) {
      await wait(slowSeconds * 1000, undefined, { signal: state.ended }).catch(() => undefined);
    }
    const change = fault === undefined || !isPlayed ? undefined : answerFaults[fault];
    // An endpoint that is out of order is so for everybody, whoever asks.
    if (change && fault?.startsWith("token-endpoint-") === true) return change({});
    if (fault === "proof-nonce-endless" && isPlayed && c.req.header("dpop") !== undefined) {
      c.header("dpop-nonce", randomText());
      return c.json({ error: "use_dpop_nonce", error_description: "A rehearsal." }, 400);
    }
    const answer = await respond(c, async () => {
      const client = await authenticate(state, c, form);
      const key = await readProof(state, c);
      if (sought) {
        bindFamily(sought, key);
        sought.certificateThumbprint = peerCertificate(c.req.raw)?.thumbprint;
      }
      if (grantType === "authorization_code") return redeemCode(state, client, form);
      if (grantType === "refresh_token") return refresh(state, client, form);
      if (grantType === "client_credentials") return issueMachineToken(state, client, form, key);
      if (grantType === exchangeGrantType) return exchange(state, client, form);
      if (grantType === deviceGrantType) return redeemDevice(state, client, form);
      throw new TokenError("unsupported_grant_type", `Offered: ${grantTypes.join(", ")}.`);
    });
    return change && answer.status === 200
      ? change((await answer.json()) as Record<string, unknown>)
      : answer;
  });

  app.post("/revoke", async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(c, async () => {
      const client = await authenticate(state, c, form);
      const token = form.get("token") ?? "";
      const payload = await state.keys.read(token);
      const family = state.refreshTokens.get(token) ?? state.accessTokens.get(String(payload?.["jti"]));
      // RFC 7009 2.1: only the client the token was issued to; 2.2: unknown tokens are fine.
      if (family?.client === client) family.isRevoked = true;
      return {};
    });
  });
}

/** RFC 9449 sections 5 and 10: bound once, a family stays with its key. */
function bindFamily(family: Family, key: string | undefined): void {
  if (family.keyThumbprint !== undefined && family.keyThumbprint !== key) {
    throw new TokenError("invalid_dpop_proof", "The proof is of another key than this was bound to.");
  }
  family.keyThumbprint = key;
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
  return {
    ...tokens,
    id_token: await issueIdToken(state, code.family, code.nonce, { accessToken: tokens.access_token }, fault),
  };
}

/** RFC 8628 sections 3.4 and 3.5. */
async function redeemDevice(state: QuaysideState, client: Client, form: URLSearchParams): Promise<object> {
  const code = form.get("device_code") ?? "";
  const device = state.devices.get(code);
  if (device?.client !== client) throw new TokenError("invalid_grant", "There is no such device code.");
  const askedBefore = device.askedAt;
  device.askedAt = state.now();
  if (device.expiresAt < state.now())
    throw new TokenError("expired_token", "The code was not entered in time.");
  if (device.decision === undefined) {
    const isHasty = state.now() - askedBefore < deviceIntervalSeconds * 0.8;
    if (isHasty) throw new TokenError("slow_down", "Asked too soon after the last time.");
    throw new TokenError("authorization_pending", "Nobody has decided yet.");
  }
  state.devices.delete(code);
  if (device.decision === "declined") throw new TokenError("access_denied", "The person said no.");
  const tokens = await issueTokens(state, device.decision);
  return {
    ...tokens,
    id_token: await issueIdToken(state, device.decision, undefined, { accessToken: tokens.access_token }),
  };
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
  // RFC 6749 6: no more than was granted; RFC 8707 2: an API that is known here.
  const scope = form.get("scope")?.split(" ") ?? family.scope;
  if (scope.some((part) => !family.scope.includes(part)))
    throw new TokenError("invalid_scope", `That is more than was granted: ${family.scope.join(" ")}.`);
  const audience = form.get("resource") ?? state.audience;
  if (![state.audience, state.machineAudience].includes(audience))
    throw new TokenError("invalid_target", "There is no such API here.");
  return issueTokens(state, family, { scope, audience });
}

/** What an access token is for: all that was granted, at people's API, unless a refresh asks for something else. */
interface Target {
  readonly scope: readonly string[];
  readonly audience: string;
}

export async function issueAccessToken(
  state: QuaysideState,
  family: Family,
  target: Target = { scope: family.scope, audience: state.audience },
) {
  const { accessTokenSeconds } = state.lifetimes;
  const now = Math.floor(state.now());
  const jti = randomText();
  state.accessTokens.set(jti, family);
  const common = {
    iss: issuerOf(state, family.person),
    sub: family.person.subject,
    client_id: family.client.clientId,
    auth_time: family.authenticatedAt,
    ...(family.acr !== undefined && { acr: family.acr }),
    roles: family.person.roles,
    iat: now,
    exp: now + accessTokenSeconds,
    jti,
  };
  const scope = target.scope.join(" ");
  // The JWT profile for access tokens (RFC 9068 section 2.2); or, at Harbour Union, the format it had before that.
  const isFormatOne = state.hasOrganisations && family.client.tokenFormat === 1;
  const accessToken = isFormatOne
    ? await state.keys.sign({ ...common, aud: "harbour-cranes", permissions: target.scope, format: 1 }, "JWT")
    : await state.keys.sign(
        {
          ...common,
          aud: target.audience,
          scope,
          ...(state.hasOrganisations && { format: 2 }),
          ...confirmation(family),
        },
        "at+jwt",
      );
  const token_type = family.keyThumbprint === undefined ? "Bearer" : "DPoP";
  return { access_token: accessToken, token_type, expires_in: accessTokenSeconds, scope };
}

/** What an access token is bound to: RFC 9449 section 6.1, RFC 8705 section 3.1. */
function confirmation({ keyThumbprint: jkt, certificateThumbprint }: Family): object {
  if (jkt === undefined && certificateThumbprint === undefined) return {};
  return { cnf: { ...(jkt !== undefined && { jkt }), "x5t#S256": certificateThumbprint } };
}

async function issueTokens(state: QuaysideState, family: Family, target?: Target) {
  const tokens = await issueAccessToken(state, family, target);
  if (!family.scope.includes("offline_access")) return tokens;
  const refreshToken = randomText();
  family.refreshToken = refreshToken;
  state.refreshTokens.set(refreshToken, family);
  return { ...tokens, refresh_token: refreshToken };
}

const accessTokenType = "urn:ietf:params:oauth:token-type:access_token";

/** RFC 8693 section 2: an API's own token for the caller whose token it holds, which says who acts (section 4.1). */
async function exchange(state: QuaysideState, client: Client, form: URLSearchParams): Promise<object> {
  if (client.clientSecret === undefined && !client.publicKeys)
    throw new TokenError("unauthorized_client", "A public client exchanges nothing.");
  const subject = await state.keys.read(form.get("subject_token") ?? "");
  if (!subject || Number(subject["exp"]) <= state.now())
    throw new TokenError("invalid_request", "The subject token is not good.");
  const audience = form.get("audience") ?? form.get("resource");
  if (audience === null) throw new TokenError("invalid_target", "For which API?");
  const now = Math.floor(state.now());
  const { accessTokenSeconds } = state.lifetimes;
  const scope = form.get("scope") ?? "";
  const act = { sub: client.clientId, ...(subject["act"] !== undefined && { act: subject["act"] }) };
  const { cnf: _, ...rest } = subject;
  const access_token = await state.keys.sign(
    {
      ...rest,
      aud: audience,
      scope,
      client_id: client.clientId,
      act,
      iat: now,
      exp: now + accessTokenSeconds,
      jti: randomText(),
    },
    "at+jwt",
  );
  return {
    access_token,
    issued_token_type: accessTokenType,
    token_type: "Bearer",
    expires_in: accessTokenSeconds,
    scope,
  };
}

const machineScopes = ["slipway.status"];

/** RFC 6749 section 4.4: for a client that can prove itself, without a person and without a refresh token. */
async function issueMachineToken(
  state: QuaysideState,
  client: Client,
  form: URLSearchParams,
  key: string | undefined,
): Promise<object> {
  if (client.clientSecret === undefined && !client.publicKeys) {
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
    ...(key !== undefined && { cnf: { jkt: key } }),
  };
  const token_type = key === undefined ? "Bearer" : "DPoP";
  const access_token = await state.keys.sign(payload, "at+jwt");
  return { access_token, token_type, expires_in: accessTokenSeconds, scope: scope.join(" ") };
}

/** What an ID token is bound to by its hash. */
interface Bound {
  readonly accessToken?: string | undefined;
  readonly code?: string | undefined;
  readonly state?: string | undefined;
  readonly extra?: object;
}

/** OpenID Connect Core 1.0 section 2, with the fault of the rehearsal, if any. */
export async function issueIdToken(
  state: QuaysideState,
  { person, client, authenticatedAt, sessionId, acr }: Family,
  nonce: string | undefined,
  bound: Bound,
  fault?: RehearsalName,
): Promise<string> {
  const now = Math.floor(state.now());
  const claims = {
    iss: issuerOf(state, person),
    sub: person.subject,
    aud: client.clientId,
    iat: now,
    exp: now + state.lifetimes.idTokenSeconds,
    auth_time: authenticatedAt,
    ...bound.extra,
    ...(acr !== undefined && { acr }),
    ...(sessionId !== undefined && { sid: sessionId }),
    ...(state.hasOrganisations && { roles: person.roles }),
    ...(nonce !== undefined && { nonce }),
    // Core 3.1.3.6, 3.3.2.11; the state's as in Financial-grade API 1.0 part 2.
    ...(bound.accessToken !== undefined && { at_hash: halfHash(state, bound.accessToken) }),
    ...(bound.code !== undefined && { c_hash: halfHash(state, bound.code) }),
    ...(bound.code !== undefined && bound.state !== undefined && { s_hash: halfHash(state, bound.state) }),
  };
  const change = fault === undefined ? undefined : idTokenFaults[fault];
  const changed = change?.claims?.(claims, now) ?? claims;
  const token = change?.token
    ? await change.token(state.keys, changed)
    : await state.keys.sign(changed, "JWT");
  return encryptFor(client, token, fault);
}

function halfHash({ keys }: QuaysideState, value: string): string {
  const digest = createHash(keys.algorithm === "EdDSA" ? "sha512" : "sha256")
    .update(value)
    .digest();
  return digest.subarray(0, digest.length / 2).toString("base64url");
}
