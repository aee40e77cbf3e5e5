import { encodeBase64url, prepareKey, publicPart, signJws, type Jwk } from "../jose/index.js";
import type { EngineKey } from "../platform/index.js";
import { parseChallenges } from "./challenges.js";
import { readMembers } from "./read-refusal.js";
import type { Answer, Tools } from "../trace/index.js";

/** Nonces that servers have asked for, by origin: RFC 9449 section 8.2. One for each, the latest. Where nobody else keeps them. */
const nonces = new WeakMap<Tools, Map<string, string>>();
const prepared = new WeakMap<Jwk, Promise<EngineKey>>();

/** A key that access tokens are bound to, made anew for each grant; as private JWK, and secret. */
export async function createDpopKey({ platform }: Tools): Promise<Jwk> {
  return (await platform.crypto.generateKey("P-256")) as unknown as Jwk;
}

interface Proven {
  readonly method: string;
  readonly url: string;
  /** Where the proof goes along with an access token. */
  readonly accessToken?: string;
}

/** A proof of possession, and the nonce in it, if any. */
export interface DpopProof {
  readonly text: string;
  readonly nonce?: string;
}

/** A proof of possession for one request: RFC 9449 section 4.2. */
export async function signDpopProof(
  tools: Tools,
  key: Jwk,
  { method, url, accessToken }: Proven,
): Promise<DpopProof> {
  const { platform } = tools;
  const signing = prepared.get(key) ?? prepareKey(tools, key, "ES256", "sign");
  prepared.set(key, signing);
  const { origin, pathname } = new URL(url);
  const nonce = noncesOf(tools).get(origin);
  const claims = {
    jti: encodeBase64url(platform.randomBytes(16)),
    htm: method,
    // 4.2: without query and fragment.
    htu: origin + pathname,
    iat: Math.floor(platform.now()),
    ...(accessToken !== undefined && { ath: await platform.crypto.digestText("SHA-256", accessToken) }),
    ...(nonce !== undefined && { nonce }),
  };
  const { kty, crv, x, y } = publicPart(key);
  const text = await signJws(tools, await signing, claims, { typ: "dpop+jwt", jwk: { kty, crv, x, y } });
  return { text, ...(nonce !== undefined && { nonce }) };
}

/**
 * Keeps the nonce that an answer brings; true when the answer is a refusal for want of it, so that the request is worth
 * repeating once (RFC 9449 sections 8 and 9). That is so when the proof that was sent carried another nonce, or none,
 * whichever nonces other requests have learnt meanwhile.
 */
export function takeNonce(
  tools: Tools,
  url: string,
  sent: DpopProof,
  { status, headers, text = "" }: Pick<Answer, "status" | "headers"> & { readonly text?: string },
): boolean {
  const nonce = headers.get("dpop-nonce");
  // 8.1: a nonce is printable; anything else is not sent back.
  if (nonce === null || !/^[\x21\x23-\x5b\x5d-\x7e]{1,512}$/.test(nonce)) return false;
  noncesOf(tools).set(new URL(url).origin, nonce);
  if (status < 400 || sent.nonce === nonce) return false;
  // 8: at the token endpoint the error is in the body; 9: at an API it is in the challenge.
  const errors = parseChallenges(headers.get("www-authenticate")).map(
    ({ parameters }) => parameters["error"],
  );
  return [...errors, readMembers({ text }, "error answer")["error"]].includes("use_dpop_nonce");
}

function noncesOf(tools: Tools): Map<string, string> {
  const known = tools.nonces ?? nonces.get(tools) ?? new Map<string, string>();
  nonces.set(tools, known);
  return known;
}
