import { createHmac } from "node:crypto";
import type { Jwk } from "tenonsaw/jose";
import { encrypt } from "./quayside/encrypt.js";
import type { SigningKeys } from "./quayside/signing-keys.js";
import type { RehearsalName } from "./rehearsals.js";

type Claims = Readonly<Record<string, unknown>>;
type Faults<Change> = Partial<Readonly<Record<RehearsalName, Change>>>;

interface IdTokenFault {
  readonly claims?: (claims: Claims, now: number) => Claims;
  readonly token?: (keys: SigningKeys, claims: Claims) => Promise<string>;
}

const set =
  (...names: readonly (readonly [string, unknown])[]) =>
  (claims: Claims): Claims => ({ ...claims, ...Object.fromEntries(names) });
const drop =
  (...names: readonly string[]) =>
  (claims: Claims): Claims =>
    Object.fromEntries(Object.entries(claims).filter(([name]) => !names.includes(name)));
const encode = (value: unknown) => Buffer.from(JSON.stringify(value)).toString("base64url");
/** The token with another header in front of the signature, which then fits no more. */
const withHeader = async (keys: SigningKeys, claims: Claims, change: Claims): Promise<string> => {
  const [head = "", body = "", signature = ""] = (await keys.sign(claims, "JWT")).split(".");
  const header = JSON.parse(Buffer.from(head, "base64url").toString()) as Claims;
  return `${encode({ ...header, ...change })}.${body}.${signature}`;
};

export const idTokenFaults: Faults<IdTokenFault> = {
  "issuer-wrong": { claims: set(["iss", "https://id.elsewhere.example"]) },
  "issuer-with-slash": { claims: (claims) => ({ ...claims, iss: `${String(claims["iss"])}/` }) },
  "issuer-missing-in-token": { claims: drop("iss") },
  "subject-missing": { claims: drop("sub") },
  "subject-empty": { claims: set(["sub", ""]) },
  "subject-number": { claims: set(["sub", 10231]) },
  "audience-wrong": { claims: set(["aud", "some-other-client"]) },
  "audience-missing": { claims: drop("aud") },
  "audience-of-many": { claims: (claims) => ({ ...claims, aud: [claims["aud"], "tidebook"] }) },
  "authorized-party-wrong": { claims: set(["azp", "some-other-client"]) },
  "id-token-expired": {
    claims: (claims, now) => ({ ...claims, iat: now - 3900, exp: now - 3600 }),
  },
  "id-token-from-the-future": {
    claims: (claims, now) => ({ ...claims, iat: now + 3600, exp: now + 3900 }),
  },
  "not-before-in-the-future": { claims: (claims, now) => ({ ...claims, nbf: now + 3600 }) },
  "expiry-missing": { claims: drop("exp") },
  "expiry-as-text": { claims: (claims) => ({ ...claims, exp: String(claims["exp"]) }) },
  "issue-time-missing": { claims: drop("iat") },
  "nonce-wrong": { claims: set(["nonce", "of-another-sign-in"]) },
  "nonce-missing": { claims: drop("nonce") },
  "nonce-number": { claims: set(["nonce", 7]) },
  "access-token-hash-wrong": { claims: set(["at_hash", "AAAAAAAAAAAAAAAAAAAAAA"]) },
  "access-token-hash-missing": { claims: drop("at_hash") },
  "code-hash-wrong": { claims: set(["c_hash", "AAAAAAAAAAAAAAAAAAAAAA"]) },
  "code-hash-missing": { claims: drop("c_hash") },
  "state-hash-wrong": { claims: set(["s_hash", "AAAAAAAAAAAAAAAAAAAAAA"]) },
  "authentication-time-missing": { claims: drop("auth_time") },
  "authentication-too-long-ago": { claims: (claims, now) => ({ ...claims, auth_time: now - 86_400 }) },
  "authentication-class-wrong": { claims: set(["acr", "urn:quayside:none"]) },
  "authentication-class-missing": { claims: drop("acr") },
  "signature-of-a-stranger": { token: (keys, claims) => keys.signWithStranger(claims) },
  "key-unknown": { token: (keys, claims) => keys.signWithStranger(claims, "a-key-nobody-published") },
  "signature-altered": {
    token: async (keys, claims) => {
      const token = await keys.sign(claims, "JWT");
      return `${token.slice(0, -6)}${token.endsWith("AAAAAA") ? "BBBBBB" : "AAAAAA"}`;
    },
  },
  "signature-missing": {
    token: async (keys, claims) => (await keys.sign(claims, "JWT")).replace(/[^.]*$/, ""),
  },
  "claims-altered": {
    token: async (keys, claims) => {
      const [head = "", , signature = ""] = (await keys.sign(claims, "JWT")).split(".");
      return `${head}.${encode({ ...claims, sub: "qs-10009" })}.${signature}`;
    },
  },
  "algorithm-none": {
    token: (_, claims) => Promise.resolve(`${encode({ alg: "none" })}.${encode(claims)}.`),
  },
  "algorithm-hmac": {
    // The oldest trick: a MAC with the published key for a secret.
    token: (keys, claims) => {
      const input = `${encode({ alg: "HS256", kid: keys.published()[0]?.kid })}.${encode(claims)}`;
      const secret = JSON.stringify(keys.published()[0]);
      return Promise.resolve(`${input}.${createHmac("sha256", secret).update(input).digest("base64url")}`);
    },
  },
  "critical-extension": { token: (keys, claims) => withHeader(keys, claims, { crit: ["tide"], tide: 1 }) },
  "payload-unencoded": { token: (keys, claims) => withHeader(keys, claims, { b64: false }) },
  "token-of-four-parts": { token: async (keys, claims) => `${await keys.sign(claims, "JWT")}.x` },
  "token-of-nonsense": { token: () => Promise.resolve("this is no token") },
  "token-with-padding": { token: async (keys, claims) => `${await keys.sign(claims, "JWT")}==` },
  "token-with-claim-twice": {
    token: async (keys, claims) => {
      const [head = "", , signature = ""] = (await keys.sign(claims, "JWT")).split(".");
      const body = Buffer.from(`{"sub":"qs-1","sub":"qs-2"}`).toString("base64url");
      return `${head}.${body}.${signature}`;
    },
  },
};

const json = (value: unknown, status = 200) => Response.json(value, { status });
const page = (status: number) =>
  new Response("<h1>Out of order</h1>", { status, headers: { "content-type": "text/html" } });
const error = (code: string, status = 400) =>
  json({ error: code, error_description: "A rehearsal." }, status);

/** What the token endpoint says in place of its answer. */
export const answerFaults: Faults<(answer: Claims) => Response> = {
  "token-endpoint-500": () => page(500),
  "token-endpoint-busy": () => new Response("", { status: 429, headers: { "retry-after": "30" } }),
  "token-endpoint-page": () => page(200),
  "token-endpoint-empty": () => new Response(""),
  "token-endpoint-redirects": () => new Response(null, { status: 302, headers: { location: "/elsewhere" } }),
  "token-endpoint-endless": () => new Response("x".repeat(3_000_000)),
  "token-answer-member-twice": () => new Response('{"access_token":"a","access_token":"b"}'),
  "token-answer-list": () => json([]),
  "access-token-missing": (answer) => json(drop("access_token")(answer)),
  "access-token-empty": (answer) => json({ ...answer, access_token: "" }),
  "token-type-missing": (answer) => json(drop("token_type")(answer)),
  "token-not-bound": (answer) => json({ ...answer, token_type: "Bearer" }),
  "token-type-unknown": (answer) => json({ ...answer, token_type: "mac" }),
  "lifetime-negative": (answer) => json({ ...answer, expires_in: -1 }),
  "lifetime-in-words": (answer) => json({ ...answer, expires_in: "an hour" }),
  "lifetime-as-text": (answer) => json({ ...answer, expires_in: String(answer["expires_in"]) }),
  "lifetime-missing": (answer) => json(drop("expires_in")(answer)),
  "id-token-missing": (answer) => json(drop("id_token")(answer)),
  "scope-narrowed": (answer) => json({ ...answer, scope: "openid" }),
  "code-refused": () => error("invalid_grant"),
  "client-refused": () => error("invalid_client", 401),
  "grant-not-allowed": () => error("unauthorized_client"),
  "error-inside-200": () => error("invalid_grant", 200),
  "error-without-body": () => new Response("", { status: 400 }),
  "error-nobody-knows": () => error("low_tide"),
};

export const userinfoFaults: Faults<(claims: Claims) => Response> = {
  "userinfo-of-somebody-else": (claims) => json({ ...claims, sub: "qs-10447" }),
  "userinfo-without-subject": (claims) => json(drop("sub")(claims)),
  "userinfo-refused": () =>
    new Response(null, { status: 401, headers: { "www-authenticate": 'Bearer error="invalid_token"' } }),
  "userinfo-500": () => page(500),
  "userinfo-page": () => page(200),
  "userinfo-unasked-jwt": () => new Response("a.b.c", { headers: { "content-type": "application/jwt" } }),
};

type Parameters = Readonly<Record<string, string>>;
const without = (name: string) => (parameters: Parameters) => drop(name)(parameters) as Parameters;
const failing = (code: string) => (parameters: Parameters) => ({
  ...(drop("code", "id_token", "access_token")(parameters) as Parameters),
  error: code,
  error_description: "A rehearsal.",
});

/** What is wrong with the parameters on the way back. */
export const responseFaults: Faults<(parameters: Parameters) => Parameters> = {
  "state-missing": without("state"),
  "state-altered": (parameters) => ({ ...parameters, state: "of-another-sign-in" }),
  "issuer-missing": without("iss"),
  "issuer-of-another": (parameters) => ({ ...parameters, iss: "https://id.elsewhere.example" }),
  "code-missing": without("code"),
  "code-altered": (parameters) => ({ ...parameters, code: "made-up" }),
  "token-unasked": (parameters) => ({ ...parameters, access_token: "made-up" }),
  "answer-empty": () => ({}),
  "answer-server-error": failing("server_error"),
  "answer-temporarily-unavailable": failing("temporarily_unavailable"),
  "answer-invalid-scope": failing("invalid_scope"),
  "answer-unauthorized-client": failing("unauthorized_client"),
  "answer-login-required": failing("login_required"),
  "answer-interaction-required": failing("interaction_required"),
  "answer-declined": failing("access_denied"),
  "answer-error-with-markup": failing("<script>alert(1)</script>"),
};

/** The same for answers in a JWT. */
export const packedFaults: Faults<(claims: Claims) => Claims> = {
  "signed-answer-for-another": set(["aud", "some-other-client"]),
  "signed-answer-expired": set(["exp", 1]),
  "signed-answer-without-end": drop("exp"),
};

export const metadataFaults: Faults<(metadata: Claims) => Response> = {
  "metadata-issuer-wrong": (metadata) => json({ ...metadata, issuer: "https://id.elsewhere.example" }),
  "metadata-without-token-endpoint": (metadata) => json(drop("token_endpoint")(metadata)),
  "metadata-page": () => page(200),
  "metadata-missing": () => page(404),
  "metadata-insecure": (metadata) =>
    json({ ...metadata, token_endpoint: "http://id.elsewhere.example/token" }),
  "metadata-without-algorithms": (metadata) =>
    json({ ...metadata, id_token_signing_alg_values_supported: ["none"] }),
};

export const keySetFaults: Faults<(keys: readonly Claims[]) => Response> = {
  "key-set-empty": () => json({ keys: [] }),
  "key-set-page": () => page(200),
  "key-set-500": () => page(500),
  "key-set-for-encryption": (keys) => json({ keys: keys.map((key) => ({ ...key, use: "enc" })) }),
  "key-set-with-strangers": (keys) =>
    json({ keys: [{ kty: "tide" }, null, 7, { kty: "RSA", kid: "x" }, ...keys] }),
};

type Fields = Readonly<Record<string, string>>;
const form = (fields: Fields, more = "") =>
  new Response(`${new URLSearchParams(fields).toString()}${more}`, {
    headers: { "content-type": "application/x-www-form-urlencoded" },
  });

/** What Old Wharf Archive answers with in place of credentials. */
export const wharfAnswerFaults: Faults<(fields: Fields) => Response> = {
  "temporary-credentials-refused": () => new Response("signature invalid", { status: 401 }),
  "temporary-credentials-unconfirmed": (fields) => form(drop("oauth_callback_confirmed")(fields) as Fields),
  "temporary-credentials-without-secret": (fields) => form(drop("oauth_token_secret")(fields) as Fields),
  "temporary-credentials-twice": (fields) => form(fields, "&oauth_token=another"),
  "temporary-credentials-as-json": (fields) => json(fields),
  "token-credentials-refused": () => new Response("verifier invalid", { status: 401 }),
  "token-credentials-500": () => page(500),
  "token-credentials-without-token": (fields) => form(drop("oauth_token")(fields) as Fields),
};

/** What is wrong with the way back from there. */
export const wharfCallbackFaults: Faults<(url: string) => string> = {
  "wharf-verifier-missing": (url) => url.replace(/&oauth_verifier=[^&]*/, ""),
  "wharf-verifier-twice": (url) => `${url}&oauth_verifier=made-up`,
  "wharf-token-of-another": (url) => url.replace(/oauth_token=[^&]*/, "oauth_token=of-another-sign-in"),
};

export const wharfProfileFaults: Faults<(profile: Claims) => Response> = {
  "wharf-profile-refused": () => new Response("no", { status: 403 }),
  "wharf-profile-page": () => page(200),
  "wharf-profile-without-number": (profile) => json(drop("card")(profile)),
};

/** What is wrong with a token's encryption. */
export const encryptionFaults: Faults<(key: Jwk, token: string) => Promise<string>> = {
  "token-in-the-clear": (_, token) => Promise.resolve(token),
  "encryption-altered": async (key, token) => {
    const parts = (await encrypt(key, token)).split(".");
    return parts.map((part, index) => (index === 3 ? `AAAA${part.slice(4)}` : part)).join(".");
  },
  "encryption-for-another-key": (key, token) => encrypt({ ...key, kid: "a-key-nobody-has" }, token),
  "encryption-of-nonsense": (key) => encrypt(key, "this is no token"),
};

/** What comes instead of a reference to a request that was sent ahead. */
export const pushFaults: Faults<() => Response> = {
  "push-refused": () => error("invalid_request"),
  "push-without-reference": () => json({ expires_in: 60 }, 201),
  "push-answered-with-200": () => json({ request_uri: "urn:made-up", expires_in: 60 }, 200),
  "push-500": () => page(500),
};
