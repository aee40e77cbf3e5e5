import {
  bytesFromBinary,
  onceKnown,
  type Bytes,
  type EngineKey,
  type Eventually,
  type SignatureAlgorithm,
} from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { check, shapeOf, type Tools } from "../trace/index.js";
import { algorithmNeeds, isSignatureAlgorithm } from "./algorithms.js";
import { decodeBase64url, decodeToBinary, encodeBase64url } from "./base64url.js";
import { freezeDeeply, parseJsonObject, type JsonObject } from "./json.js";

const longestToken = 64 * 1024;
/** So many parts are counted. */
const mostParts = 7;

/** The protected header of a signed token (RFC 7515 section 4). */
export interface JwsHeader extends JsonObject {
  readonly alg: string;
  readonly kid?: string;
  readonly typ?: string;
}

/** A JWS taken apart and not yet believed. */
export interface DecodedJws {
  readonly header: JwsHeader;
  /** The payload as JSON object: a JWT claims set (RFC 7519 section 4). */
  readonly payload: JsonObject;
  readonly signingInput: Bytes;
  readonly signature: Bytes;
}

const utf8 = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
const encoder = new TextEncoder();

/**
 * Takes a JWS in compact form apart, believing nothing (RFC 7515 section 5.2 steps 1–7 and RFC 7519 section 7.2).
 *
 * @throws jose.token-too-large, jose.encrypted, jose.not-compact, jose.not-base64url, jose.not-json,
 *   jose.duplicate-member
 */
export function decodeJws(token: string): DecodedJws {
  if (typeof token !== "string") fail("jose.not-compact", { received: shapeOf(token) });
  if (token.length > longestToken) fail("jose.token-too-large", { received: `${token.length} characters` });
  // 5.2 step 1: exactly three parts.
  const first = token.indexOf(".");
  const second = token.indexOf(".", first + 1);
  if (first < 0 || second < 0 || token.includes(".", second + 1)) {
    const count = token.split(".", mostParts).length;
    if (count === 5) fail("jose.encrypted", { received: "five parts" });
    fail("jose.not-compact", { received: `parts: ${count}${count < mostParts ? "" : " or more"}` });
  }
  const header = decodeHeader(token.slice(0, first));
  return {
    header,
    payload: parseJsonObject(decodeText(token.slice(first + 1, second), "payload"), "payload"),
    // All of it is ASCII: both parts have just been decoded.
    signingInput: bytesFromBinary(token.slice(0, second)),
    signature: decodeBase64url(token.slice(second + 1), "signature"),
  };
}

/** All tokens signed with one key have the same header: it is taken apart once, until a hundred others have come. */
const knownHeaders = new Map<string, JwsHeader>();
const mostKnownHeaders = 100;
const longestKnownHeader = 512;

/** 5.2 steps 2–4: the header is UTF-8 JSON, an object, no name twice. */
function decodeHeader(part: string): JwsHeader {
  const known = knownHeaders.get(part);
  if (known) return known;
  const header = parseJsonObject(decodeText(part, "header"), "header");
  if (typeof header["alg"] !== "string") {
    fail("jose.algorithm-refused", { received: "a header without `alg`" });
  }
  // 4.1.4, 4.1.9 and 4.1.10: of another type they are not as if they were not there.
  for (const name of ["kid", "typ", "cty"]) {
    if (header[name] !== undefined && typeof header[name] !== "string")
      fail("jose.header-refused", { received: `\`${name}\` ${quoted(header[name])}` });
  }
  // Shared from now on: nobody may change it for the others.
  if (knownHeaders.size >= mostKnownHeaders) knownHeaders.clear();
  if (part.length <= longestKnownHeader) knownHeaders.set(part, freezeDeeply(header) as JwsHeader);
  return header as JwsHeader;
}

/** Finds the key for a header whose algorithm is admitted. */
export type KeyFinder = (header: JwsHeader, algorithm: SignatureAlgorithm) => Eventually<EngineKey>;

/**
 * Verifies a JWS in compact form and returns its parts.
 *
 * @param algorithms those admitted; the token's header only chooses among them (RFC 8725 section 3.1)
 * @throws what decodeJws throws, jose.algorithm-refused, jose.critical-unknown, jose.key-unknown,
 *   jose.signature-mismatch
 */
export async function verifyJws(
  tools: Tools,
  token: string,
  algorithms: readonly SignatureAlgorithm[],
  findKey: KeyFinder,
): Promise<DecodedJws> {
  return verifyDecoded(tools, decodeJws(token), algorithms, findKey);
}

/** The same for one that has been taken apart already, by decodeJws: at once where nothing has to be waited for. */
export function verifyDecoded(
  tools: Tools,
  decoded: DecodedJws,
  algorithms: readonly SignatureAlgorithm[],
  findKey: KeyFinder,
): Eventually<DecodedJws> {
  const { header, signature, signingInput } = decoded;
  const { alg, crit } = header;
  // RFC 8725 3.1 and 3.2: the algorithm is one this caller named, so neither `none` nor HMAC over a public key.
  const isAdmitted = isSignatureAlgorithm(alg) && algorithms.includes(alg);
  check(tools, "jose.algorithm-refused", isAdmitted, () => ({
    received: quoted(alg),
    expected: algorithms.join(" or "),
  }));
  // RFC 7515 4.1.11: no extension is understood, so any `crit` is refused; `b64` (RFC 7797) must be in `crit`.
  const isEncoded = !("b64" in header);
  check(tools, "jose.critical-unknown", crit === undefined && isEncoded, () => ({
    received: crit === undefined ? (isEncoded ? "no `crit`" : "`b64`") : quoted(JSON.stringify(crit)),
  }));
  // `jku`, `jwk`, `x5u`, `x5c` are never looked at: keys come from the provider's key set only (RFC 8725 3.10).
  const algorithm = alg as SignatureAlgorithm;
  const verifying = onceKnown(findKey(header, algorithm), (key) => {
    // 5.2 step 8: the signature, of exactly the right length (RFC 7518 section 3.4; RFC 8017 sections 8.1.2 and 8.2.2 step 1).
    const needed = key.signatureBytes ?? algorithmNeeds[algorithm].signatureBytes;
    const isRightLength = needed === undefined || signature.length === needed;
    return isRightLength && tools.platform.crypto.verify(key, signature, signingInput);
  });
  return onceKnown(verifying, (holds) => {
    check(tools, "jose.signature-mismatch", holds, () => ({
      received: `${alg} signature of ${signature.length} bytes, key ${quoted(header.kid ?? "without key ID")}`,
    }));
    return decoded;
  });
}

/** Signs a JSON payload in compact form (RFC 7515 section 5.1). The header's `alg` is the key's. */
export async function signJws(
  tools: Tools,
  key: EngineKey,
  payload: JsonObject,
  header: { readonly kid?: string; readonly typ?: string; readonly jwk?: object } = {},
): Promise<string> {
  const protectedHeader = { alg: key.algorithm, ...header };
  const input = [protectedHeader, payload]
    .map((part) => encodeBase64url(encoder.encode(JSON.stringify(part))))
    .join(".");
  const signature = await tools.platform.crypto.sign(key, encoder.encode(input));
  return `${input}.${encodeBase64url(signature)}`;
}

function decodeText(part: string, what: string): string {
  const binary = decodeToBinary(part, what);
  // ASCII, as nearly always, is text already.
  if (/^[\0-\x7f]*$/.test(binary)) return binary;
  try {
    return utf8.decode(bytesFromBinary(binary));
  } catch (error) {
    fail("jose.not-json", { received: `${what}: not UTF-8`, cause: error });
  }
}
