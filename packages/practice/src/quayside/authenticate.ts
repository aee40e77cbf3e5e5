import { timingSafeEqual } from "node:crypto";
import type { Context } from "hono";
import { createTools, decodeJws, prepareKey, verifyJws, type Jwk } from "tenonsaw/jose";
import { checkProof } from "../dpop.js";
import { peerCertificate, thumbprintOf } from "../peer-certificate.js";
import { sha256, type Client, type QuaysideState } from "./state.js";

/** An error answer of RFC 6749 section 5.2. */
export class TokenError extends Error {
  readonly error: string;
  readonly status: 400 | 401;
  readonly nonce: string | undefined;

  constructor(error: string, description: string, status: 400 | 401 = 400, nonce?: string) {
    super(description);
    this.nonce = nonce;
    this.error = error;
    this.status = status;
  }
}

/** Answers with what `work` returns, or with the error it throws (RFC 6749 sections 5.1 and 5.2). */
export async function respond(
  c: Context,
  work: () => Promise<object>,
  status: 200 | 201 = 200,
): Promise<Response> {
  c.header("cache-control", "no-store");
  try {
    return c.json(await work(), status);
  } catch (error) {
    if (!(error instanceof TokenError)) throw error;
    if (error.nonce !== undefined) c.header("dpop-nonce", error.nonce);
    if (error.status === 401) c.header("www-authenticate", 'Basic realm="practice"');
    return c.json({ error: error.error, error_description: error.message }, error.status);
  }
}

/**
 * RFC 6749 2.3.1: Basic with form-encoded parts, or in the body; a public client only names itself. A client with
 * registered keys signs an assertion (RFC 7523), and so may one with a secret.
 */
export async function authenticate(state: QuaysideState, c: Context, form: URLSearchParams): Promise<Client> {
  const header = c.req.header("authorization");
  const refuse = (why: string) => new TokenError("invalid_client", why, 401);
  let [id, secret] = [form.get("client_id") ?? "", form.get("client_secret") ?? undefined];
  const assertion = form.get("client_assertion");
  const ways = [header, secret, assertion].filter((way) => typeof way === "string");
  if (ways.length > 1) throw new TokenError("invalid_request", "Two ways of authentication at once.");
  if (header !== undefined) {
    const [, credentials = ""] = /^Basic ([A-Za-z0-9+/=]+)$/i.exec(header) ?? [];
    const [first = "", second = ""] = Buffer.from(credentials, "base64").toString("latin1").split(":");
    const decode = (part: string) => new URLSearchParams(`v=${part}`).get("v") ?? "";
    [id, secret] = [decode(first), decode(second)];
  }
  const client = state.clients.get(id);
  if (!client) throw refuse("This client is not registered.");
  if (assertion !== null) {
    const fault = await findFault(state, client, assertion);
    if (fault !== undefined) throw refuse(`The client assertion is not accepted: ${fault}.`);
    return client;
  }
  if (client.certificate !== undefined || client.certificateName !== undefined) {
    const peer = peerCertificate(c.req.raw);
    const isOwn =
      client.certificate === undefined
        ? peer?.isTrusted === true && peer.commonName === client.certificateName
        : peer?.thumbprint === thumbprintOf(client.certificate);
    if (!isOwn) throw refuse("The certificate is not this client's.");
    return client;
  }
  if (client.publicKeys) throw refuse("This client is registered for private_key_jwt.");
  if (client.clientSecret === undefined) return client;
  if (secret === undefined) throw refuse("This client has to authenticate.");
  if (!timingSafeEqual(sha256(secret), sha256(client.clientSecret))) throw refuse("The secret is wrong.");
  return client;
}

const tools = createTools();

/** What is wrong with a client assertion (RFC 7523 section 3), or undefined. */
async function findFault(
  state: QuaysideState,
  client: Client,
  assertion: string,
): Promise<string | undefined> {
  const secretKey: Jwk = { kty: "oct", k: Buffer.from(client.clientSecret ?? "").toString("base64url") };
  const algorithms = client.publicKeys
    ? (["EdDSA", "ES256", "PS256", "RS256"] as const)
    : (["HS256"] as const);
  try {
    const { kid } = decodeJws(assertion).header;
    const keys = client.publicKeys?.filter((key) => key.kid === kid) ?? [secretKey];
    const { payload } = await verifyJws(tools, assertion, algorithms, (_, algorithm) =>
      prepareKey(tools, keys[0] ?? secretKey, algorithm, "verify"),
    );
    const { iss, sub, aud, exp, jti } = payload;
    const audience = state.hasOrganisations ? `${state.issuer}/token` : state.issuer;
    if (iss !== client.clientId || sub !== client.clientId) return "iss and sub have to be the client ID";
    if (aud !== audience) return `aud has to be ${audience}`;
    if (!(Number(exp) > state.now() && Number(exp) < state.now() + 600))
      return "exp is past or too far ahead";
    if (typeof jti !== "string" || state.assertions.has(jti)) return "jti is missing or was used before";
    state.assertions.add(jti);
    return undefined;
  } catch {
    return "its signature fits none of the registered keys";
  }
}

/**
 * The thumbprint of the key that a token request proves to hold, or undefined without a proof (RFC 9449 section 5).
 */
export async function readProof(state: QuaysideState, c: Context): Promise<string | undefined> {
  const proof = c.req.header("dpop");
  if (proof === undefined) return undefined;
  const { pathname } = new URL(c.req.url);
  const { dpopNonce: nonce, proofs: used } = state;
  const context = { method: c.req.method, url: state.issuer + pathname, now: state.now(), nonce, used };
  const result = await checkProof(proof, context);
  if (result.kind === "good") return result.thumbprint;
  throw new TokenError(result.error, `The proof is not accepted: ${result.why}.`, 400, nonce);
}
