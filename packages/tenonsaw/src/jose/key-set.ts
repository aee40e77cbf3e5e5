import type { EngineKey, SignatureAlgorithm } from "../platform/index.js";
import { fail, isProblem, quoted, type CauseOf } from "../problem/index.js";
import {
  describeBody,
  note,
  requireAvailable,
  sendLeg,
  shapeOf,
  wordsOf,
  type Answer,
  type Tools,
} from "../trace/index.js";
import { KeptFresh, type Loaded } from "../trace/kept-fresh.js";
import { parseJsonObject, type JsonObject } from "./json.js";
import { fits, prepareKey, type Jwk } from "./jwk.js";
import type { JwsHeader } from "./jws.js";

/** Where a key set comes from, and how often it may be asked for. */
export interface KeySetSource {
  /** `jwks_uri` of the provider, or the keys themselves. */
  readonly keys: string | readonly Jwk[];
  readonly timeoutSeconds: number;
  /** How long a set is used without asking again, in seconds, where the answer does not say. */
  readonly freshSeconds?: number;
}

const usualFreshSeconds = 3600;

/** However briefly or long an answer wants to be kept, it is kept between a minute and a day. */
const [shortestFreshSeconds, longestFreshSeconds] = [60, 86_400];

/** Keys as they were published. */
interface Published {
  readonly keys: readonly Jwk[];
  /** What was published and is no key, and why. */
  readonly passedOver: readonly PassedOver[];
  /** What tells whether another set is the same. */
  readonly texts: readonly string[];
  /** Keys as they were prepared, by algorithm and by what was published; and each of them by itself. */
  readonly prepared: Map<string, EngineKey>;
  readonly counting: Set<EngineKey>;
  /** Those that were found for a token's header. */
  readonly ready: Map<string, EngineKey>;
}

/**
 * A provider's published keys: fetched when first needed, kept, and asked for again before they have grown old or when a
 * token names a key that is not among them (OpenID Connect Core 1.0 section 10.1.1). However many tokens ask, and
 * whatever key IDs they make up, there is one request at a time and one per cool-down. While the set cannot be
 * reached, the keys at hand stay in use, for a day more than they are fresh.
 */
export class KeySet {
  readonly #tools: Tools;
  readonly #source: KeySetSource;
  readonly #kept: KeptFresh<Published>;
  #clockAhead: number | undefined;

  constructor(tools: Tools, source: KeySetSource) {
    this.#tools = tools;
    this.#source = source;
    this.#kept = new KeptFresh(
      tools.platform,
      (before) => this.#load(before),
      (error, secondsLeft) => this.#tellFailed(error, secondsLeft),
    );
  }

  /**
   * By how many seconds the clock of whoever published the keys was ahead of this one when it last answered, to the second
   * (RFC 9110 section 6.6.1); undefined where it did not say.
   */
  get clockAhead(): number | undefined {
    return this.#clockAhead;
  }

  /**
   * Whether a key that was found here is still published, the very same, and may be gone by without asking first: what it has
   * verified holds as long.
   */
  counts(key: EngineKey): boolean {
    return this.#kept.peek()?.counting.has(key) === true;
  }

  /**
   * The one key that fits a token's header: at once where it was found before, as nearly always.
   *
   * @throws jose.key-unknown, jose.key-refused, jose.key-set-refused, and what sendLeg throws while no set is known
   */
  find(header: JwsHeader, algorithm: SignatureAlgorithm): EngineKey | Promise<EngineKey> {
    return this.#kept.peek()?.ready.get(nameOf(header, algorithm)) ?? this.#search(header, algorithm);
  }

  async #search(header: JwsHeader, algorithm: SignatureAlgorithm): Promise<EngineKey> {
    let published = await this.#kept.get();
    let found = candidates(published, header, algorithm);
    if (found.length === 0 && (await this.#kept.askAgain())) {
      published = this.#kept.latest ?? published;
      found = candidates(published, header, algorithm);
    }
    const [jwk] = found;
    // Core 10.1: with several candidates the token has to say which; guessing is not done.
    if (jwk === undefined || found.length > 1) {
      const { keys } = published;
      const named = keys.find(({ kid }) => kid !== undefined && kid === header.kid);
      const about = named && found.length === 0 ? `; the key of that ID has ${describeKey(named)}` : "";
      const passedOver = published.passedOver.slice(0, 5).map(({ why }) => `; one is no key: ${why}`);
      fail("jose.key-unknown", {
        received: `key ID ${header.kid === undefined ? "absent" : quoted(header.kid)}, ${algorithm}: ${found.length} of ${keys.length} published keys fit${about}${passedOver.join("")}`,
        expected: `one of the published key IDs: ${namesOf(keys)}`,
        because: this.#whyUnknown(published, header.kid, found.length),
      });
    }
    const place = `${algorithm} ${JSON.stringify(jwk)}`;
    const key = published.prepared.get(place) ?? (await prepareKey(this.#tools, jwk, algorithm, "verify"));
    // With the set that it is from: where that has been replaced meanwhile, nobody looks there any more.
    published.prepared.set(place, key);
    published.counting.add(key);
    published.ready.set(nameOf(header, algorithm), key);
    return key;
  }

  #whyUnknown(
    { keys, passedOver }: Published,
    kid: unknown,
    fitting: number,
  ): CauseOf<"jose.key-unknown"> | undefined {
    if (typeof this.#source.keys !== "string") return "given";
    // RFC 7517 section 5: such a member is passed over; whether it is the one that is missing, its name tells.
    const isPassedOver = passedOver.some((each) => [undefined, kid].includes(each.kid));
    if (fitting === 0 && isPassedOver && !keys.some((each) => each.kid === kid)) return "unreadable";
    if (keys.length === 0) return "none-published";
    if (kid === undefined) return fitting > 1 ? "token-nameless" : "other-algorithm";
    if (keys.every((each) => each.kid === undefined)) return "keys-nameless";
    return keys.some((each) => each.kid === kid) ? (fitting > 1 ? "twice" : "other-algorithm") : undefined;
  }

  #tellFailed(error: unknown, secondsLeft: number): void {
    if (!isProblem(error)) return;
    note(this.#tools, "jose", "key set not reachable, keeping the keys at hand", {
      problem: error.problem.code,
    });
    const hours = Math.floor(secondsLeft / 3600);
    this.#tools.report?.(
      error,
      `a key set request, with the keys at hand kept in use for ${hours} more hour${hours === 1 ? "" : "s"}`,
    );
  }

  async #load(before: Published | undefined): Promise<Loaded<Published>> {
    const { keys: url, timeoutSeconds, freshSeconds = usualFreshSeconds } = this.#source;
    if (typeof url !== "string")
      return { value: publishedWith({ keys: url, passedOver: [], texts: [] }), freshSeconds: Infinity };
    const answer = await sendLeg(this.#tools, {
      station: "jose",
      leg: "key set request",
      url,
      timeoutSeconds,
    });
    const said = Date.parse(answer.headers.get("date") ?? "") / 1000;
    // RFC 9111 section 5.1: what comes out of a cache is dated by when it went in.
    this.#clockAhead =
      Number.isNaN(said) || answer.headers.has("age")
        ? undefined
        : Math.round(said - this.#tools.platform.now());
    await requireAvailable(this.#tools, "key set request", answer, "jose.key-set-unavailable");
    if (answer.status !== 200)
      fail("jose.key-set-refused", {
        received: `status ${answer.status} from ${url}${await wordsOf(answer)}`,
      });
    const { keys } = readKeySet(answer);
    if (!Array.isArray(keys)) fail("jose.key-set-refused", { received: "no array `keys`" });
    // RFC 7517 5: members of the array that are not usable keys are passed over.
    const judged = (keys as readonly unknown[]).map((each) => [each, whyNoKey(each)] as const);
    const texts = keys.map((each) => JSON.stringify(each));
    const known = before?.texts.join() === texts.join() ? before : undefined;
    const set = {
      keys: judged.flatMap(([each, why]) => (why === undefined ? [each as Jwk] : [])),
      passedOver: judged.flatMap(([each, why]) => (why === undefined ? [] : [{ kid: kidOf(each), why }])),
      texts,
    };
    return {
      value: known ?? publishedWith(set, before),
      freshSeconds: readMaxAge(answer.headers) ?? freshSeconds,
    };
  }
}

/** A set of keys, in which what was prepared before stays prepared as long as the very same key is published. */
function publishedWith(set: Pick<Published, "keys" | "passedOver" | "texts">, before?: Published): Published {
  const prepared = new Map(
    [...(before?.prepared ?? [])].filter(([place]) =>
      set.texts.includes(place.slice(place.indexOf(" ") + 1)),
    ),
  );
  return { ...set, prepared, counting: new Set(prepared.values()), ready: new Map() };
}

// A MAC key is a secret: one that is published protects nothing.
const candidates = ({ keys }: Published, header: JwsHeader, algorithm: SignatureAlgorithm): readonly Jwk[] =>
  keys.filter(
    (jwk) =>
      jwk.kty !== "oct" &&
      (header.kid === undefined || jwk.kid === header.kid) &&
      fits(jwk, algorithm, "verify"),
  );

function namesOf(keys: readonly Jwk[]): string {
  const names = keys.slice(0, 20).map(({ kid }) => (kid === undefined ? "(none)" : quoted(kid, 40)));
  return names.join(", ") || "(no keys are published)";
}

/** A token without key ID asks for another key than one whose key ID is empty. */
function nameOf({ kid }: JwsHeader, algorithm: SignatureAlgorithm): string {
  return kid === undefined ? algorithm : `${algorithm} ${kid}`;
}

interface PassedOver {
  readonly kid: string | undefined;
  readonly why: string;
}

const kidOf = (value: unknown) => {
  const { kid } = Object(value) as { readonly kid?: unknown };
  return typeof kid === "string" ? kid : undefined;
};

/** What keeps a member of a key set from being a key; undefined where it is one. */
function whyNoKey(value: unknown): string | undefined {
  if (typeof value !== "object" || value === null) return `it is ${shapeOf(value)}`;
  const { kty, key_ops: operations, ...rest } = value as Readonly<Record<string, unknown>>;
  if (typeof kty !== "string") return kty === undefined ? "kty is missing" : `kty is ${shapeOf(kty)}`;
  const odd = ["kid", "use", "alg"].find(
    (name) => rest[name] !== undefined && typeof rest[name] !== "string",
  );
  if (odd !== undefined) return `${odd} is ${shapeOf(rest[odd])}`;
  const areTexts = Array.isArray(operations) && operations.every((each) => typeof each === "string");
  return operations === undefined || areTexts ? undefined : `key_ops is ${shapeOf(operations)}`;
}

/** What is public of it anyhow, and says what it is for. */
function describeKey(jwk: Jwk): string {
  const members = (["kty", "crv", "alg", "use"] as const).flatMap((name) =>
    jwk[name] === undefined ? [] : [`${name} ${quoted(jwk[name], 40)}`],
  );
  // RFC 7518 section 6.2.1, RFC 8037 section 2.
  const lacksCurve = jwk.crv === undefined && ["EC", "OKP"].includes(jwk.kty);
  return [...members, ...(lacksCurve ? ["no crv"] : [])].join(", ");
}

/** RFC 9111 section 5.2.2.1, within bounds; `no-store` and `no-cache` are a lifetime of zero. */
function readMaxAge(headers: Headers): number | undefined {
  const control = headers.get("cache-control") ?? "";
  const [, maxAge] = /(?:^|[,\s])max-age="?(\d{1,9})"?(?:$|[,\s])/i.exec(control) ?? [];
  const isBanned = /(?:^|[,\s])no-(?:store|cache)(?:$|[,\s])/i.test(control);
  if (maxAge === undefined && !isBanned) return undefined;
  const seconds = isBanned ? 0 : Number(maxAge);
  return Math.min(longestFreshSeconds, Math.max(shortestFreshSeconds, seconds));
}

/** Not every key set is where it is said to be: what answers there may be a page. */
function readKeySet(answer: Answer): JsonObject {
  try {
    return parseJsonObject(answer.text, "key set");
  } catch (error) {
    if (!isProblem(error, "jose.not-json")) throw error;
    const { kind } = describeBody(answer);
    fail("jose.key-set-refused", {
      received: `${kind}, ${answer.text.length} characters, which is no JSON object`,
      cause: error,
    });
  }
}
