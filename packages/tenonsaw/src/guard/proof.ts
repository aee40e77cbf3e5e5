import QuickLRU from "quick-lru";
import {
  decodeJws,
  encodeBase64url,
  prepareKey,
  publicPart,
  thumbprint,
  verifyDecoded,
  type Jwk,
  type JsonObject,
} from "../jose/index.js";
import {
  parseUrl,
  limits,
  onceKnown,
  type EngineKey,
  type Eventually,
  type SignatureAlgorithm,
} from "../platform/index.js";
import { fail, isProblem, quoted, type CauseOf } from "../problem/index.js";
import { clockToleranceSeconds } from "../provider/index.js";
import { check, equalInConstantTime, type Tools } from "../trace/index.js";
import { isText } from "./caller.js";
import type { PromptMarks } from "./replays.js";

/** RFC 9449 section 4.3 step 5: what is taken, and what `algs` of a challenge says. */
export const proofAlgorithms: readonly SignatureAlgorithm[] = [
  "ES256",
  "ES384",
  "ES512",
  "EdDSA",
  "PS256",
  "RS256",
];

/** What a proof is held against. */
export interface ProofExpectation {
  readonly method: string;
  /** Where callers see what they called; without query and fragment. */
  readonly address: string;
  readonly accessToken: string;
  /** The thumbprint that the token is bound to: `cnf.jkt`. */
  readonly thumbprint: string;
  /** Where it is noted that a proof was used. */
  readonly marks: PromptMarks;
}

/** Nonces that this API gives out (RFC 9449 section 9): no state, so that every process knows those of the others. */
export interface ProofNonces {
  current(): Promise<string>;
  isGood(nonce: string): Promise<boolean>;
}

const nonceSeconds = 300;

/** @param secret shared by all processes */
export function createProofNonces({ platform }: Tools, secret: string): ProofNonces {
  const encoder = new TextEncoder();
  const key = encoder.encode(`tenonsaw proof nonce ${secret}`);
  const at = async (period: number) => {
    const mac = await platform.crypto.mac("SHA-256", key, encoder.encode(String(period)));
    return encodeBase64url(mac.subarray(0, 16));
  };
  const period = () => Math.floor(platform.now() / nonceSeconds);
  return {
    current: () => at(period()),
    async isGood(nonce) {
      const [now, before] = await Promise.all([at(period()), at(period() - 1)]);
      // Both are compared, whichever it is.
      const [isNow, isBefore] = [equalInConstantTime(nonce, now), equalInConstantTime(nonce, before)];
      return isNow || isBefore;
    },
  };
}

/** A public key as callers bring it, ready. */
interface KnownKey {
  readonly key: EngineKey;
  readonly thumbprint: string;
}

/** Checks proofs of possession: RFC 9449 sections 4.3 and 7. */
export class ProofJudge {
  /** By what they are, until a thousand others have come. */
  readonly #known = new QuickLRU<string, KnownKey>({ maxSize: 1000 });
  /** By the very object in a header, which decodeJws hands out again for the same text: of one algorithm, then. */
  readonly #seen = new WeakMap<object, KnownKey>();
  readonly #tools: Tools;
  readonly #nonces: ProofNonces | undefined;

  constructor(tools: Tools, nonces: ProofNonces | undefined) {
    this.#tools = tools;
    this.#nonces = nonces;
  }

  /** @throws guard.proof-missing, guard.proof-refused, guard.binding-mismatch, guard.proof-nonce-needed, guard.proof-replayed */
  judge(header: string | undefined, expected: ProofExpectation): Eventually<void> {
    if (header === undefined || header === "") fail("guard.proof-missing", { received: "no header DPoP" });
    // Steps 1 and 2: a comma is in no JWT, and between several.
    if (header.includes(",")) refuse("several", "several proofs", "one header DPoP with one proof");
    if (header.length > limits.proof)
      refuse("form", `a proof of ${header.length} characters`, `at most ${limits.proof} characters`);
    return onceKnown(this.#read(header, expected.thumbprint), (claims) => this.#hold(claims, expected));
  }

  #hold({ jti, htm, htu, iat, ath, nonce }: JsonObject, expected: ProofExpectation): Eventually<void> {
    const { crypto, now } = this.#tools.platform;
    // Step 3.
    if (!isText(jti) || !isText(htm) || !isText(htu) || !isText(ath) || !Number.isFinite(iat)) {
      const missing = Object.entries({ jti, htm, htu, ath }).filter(([, each]) => !isText(each));
      const names = [...missing.map(([name]) => name), ...(Number.isFinite(iat) ? [] : ["iat"])];
      return refuse("form", `a proof without ${names.join(", ")}`, "jti, htm, htu, iat and ath");
    }
    if (jti.length > limits.tokenId)
      refuse("form", `a jti of ${jti.length} characters`, `a jti of at most ${limits.tokenId}`);
    // Steps 8 and 9: the method letter for letter; the address after the normalisation of RFC 3986 section 6.2.
    if (htm !== expected.method) refuse("method", `htm ${quoted(htm, 20)}`, `htm ${expected.method}`);
    if (htu !== expected.address) {
      const address = addressOf(expected.address);
      if (address === undefined || addressOf(htu) !== address)
        refuse("address", `htu ${quoted(htu)}`, `htu ${quoted(address ?? expected.address)}`);
    }
    // Step 12: of this token, which is no secret here: it came along.
    return onceKnown(crypto.digestText("SHA-256", expected.accessToken), (hash) => {
      if (ath !== hash) refuse("token", `ath ${quoted(ath, 50)}`, `ath ${quoted(hash)}`);
      // Step 11, by the proof's own time, whether there is a nonce or not: the strict reading.
      const age = now() - Number(iat);
      if (Math.abs(age) > clockToleranceSeconds) {
        const received = `a proof made ${Math.round(Math.abs(age))} s ${age < 0 ? "from now" : "ago"}, by its clock`;
        refuse("time", received, `at most ${clockToleranceSeconds} s away`);
      }
      // 11.1: last of all, so that no proof that is refused uses up an ID.
      return this.#nonces
        ? this.#requireNonce(this.#nonces, nonce).then(() => this.#useUp(jti, Number(iat), expected))
        : this.#useUp(jti, Number(iat), expected);
    });
  }

  /** Step 10. */
  async #requireNonce(nonces: ProofNonces, nonce: unknown): Promise<void> {
    const isGood = typeof nonce === "string" && (await nonces.isGood(nonce));
    check(this.#tools, "guard.proof-nonce-needed", isGood, () => ({
      received: nonce === undefined ? "a proof without nonce" : "a proof with another nonce",
    }));
  }

  /** RFC 9449 section 11.1: an ID counts together with its key, so that nobody uses up another's. */
  #useUp(jti: string, madeAt: number, { thumbprint: owner, marks }: ProofExpectation): Eventually<void> {
    const { crypto, now: clock } = this.#tools.platform;
    // As nearly all are: as short as a hash of it would be, and of letters that any store keeps.
    const named: Eventually<string> = /^[\w-]{1,43}$/.test(jti)
      ? `proof/${owner}/${jti}`
      : onceKnown(crypto.digestText("SHA-256", `${owner} ${jti}`), (hash) => `proof/${hash}`);
    return onceKnown(named, (id) => {
      const now = clock();
      // A minute longer than it is taken.
      const marking = marks.useMark(id, Math.ceil(madeAt) + 2 * clockToleranceSeconds, now, owner);
      return onceKnown(marking, (isNew) => {
        check(this.#tools, "guard.proof-replayed", isNew, () => ({
          received: `jti ${quoted(jti, 60)} for the second time`,
        }));
      });
    });
  }

  /** Steps 4 to 7, and 12 for the key, which is compared before the signature is computed. */
  #read(proof: string, bound: string): Eventually<JsonObject> {
    const fit = (known: KnownKey) => {
      check(this.#tools, "guard.binding-mismatch", known.thumbprint === bound, () => ({
        received: `a proof by the key ${quoted(known.thumbprint)}`,
        expected: `the key ${quoted(bound)}, which the token is bound to`,
      }));
      return known.key;
    };
    try {
      const verifying = verifyDecoded(this.#tools, decodeJws(proof), proofAlgorithms, (header, algorithm) => {
        if (header.typ !== "dpop+jwt")
          refuse(
            "kind",
            header.typ === undefined ? "no `typ`" : `typ ${quoted(header.typ, 40)}`,
            "typ dpop+jwt",
          );
        const { jwk } = header;
        const isKey = typeof jwk === "object" && jwk !== null && !Array.isArray(jwk);
        const given = (isKey ? jwk : {}) as Jwk;
        const seen = this.#seen.get(given);
        if (seen) return fit(seen);
        return this.#keyOf(given, algorithm).then((known) => {
          this.#seen.set(given, known);
          return fit(known);
        });
      });
      return verifying instanceof Promise
        ? verifying.then(({ payload }) => payload, explain)
        : verifying.payload;
    } catch (error) {
      return explain(error);
    }
  }

  async #keyOf(given: Jwk, algorithm: SignatureAlgorithm): Promise<KnownKey> {
    const { kty, crv, x, y, n, e } = given;
    // Step 7; a symmetric key is private throughout.
    const shown = publicPart(given);
    const secret = Object.keys(given).filter((name) => !Object.hasOwn(shown, name));
    if (secret.length > 0)
      refuse("key", `a key with its private part (${secret.join(", ")})`, "a public key");
    const name = JSON.stringify([algorithm, kty, crv, x, y, n, e]);
    const known = this.#known.get(name);
    if (known) return known;
    try {
      const parts = Object.entries({ kty, crv, x, y, n, e }).filter(([, value]) => value !== undefined);
      const publicKey = Object.fromEntries(parts) as unknown as Jwk;
      const made = {
        key: await prepareKey(this.#tools, publicKey, algorithm, "verify"),
        thumbprint: await thumbprint(this.#tools, publicKey),
      };
      this.#known.set(name, made);
      return made;
    } catch (error) {
      if (!isProblem(error)) throw error;
      return refuse(
        "key",
        error.problem.received ?? "no key",
        `a public key for ${algorithm} in the header \`jwk\``,
      );
    }
  }
}

function refuse(because: CauseOf<"guard.proof-refused">, received: string, expected: string): never {
  fail("guard.proof-refused", { received, expected, because });
}

/** Scheme, host and path; a parsed URL has its scheme and host in lower case, no default port, and no dot segments. */
function addressOf(url: string): string | undefined {
  const parsed = parseUrl(url);
  if (!parsed) return undefined;
  const { protocol, host, pathname, username, password } = parsed;
  if (username !== "" || password !== "") return undefined;
  // RFC 3986 6.2.2.1 and 6.2.2.2: escapes in capitals, and none of what needs none.
  const path = pathname.replace(/%[0-9a-f]{2}/gi, (escape) => {
    const character = String.fromCharCode(Number.parseInt(escape.slice(1), 16));
    return /[\w.~-]/.test(character) ? character : escape.toUpperCase();
  });
  return `${protocol}//${host}${path}`;
}

/** What is wrong with a proof's form or signature, in the guard's terms. */
function explain(error: unknown): never {
  if (!isProblem(error) || error.problem.station !== "jose") throw error;
  const { code, received = "", expected } = error.problem;
  const because = {
    "jose.algorithm-refused": "algorithm",
    "jose.signature-mismatch": "signature",
  } as const;
  return fail("guard.proof-refused", {
    received,
    expected,
    because: code in because ? because[code as keyof typeof because] : "form",
    cause: error,
  });
}
