import QuickLRU from "quick-lru";
import type { EngineKey, SignatureAlgorithm } from "../platform/index.js";
import type { Tools } from "../trace/index.js";
import { freezeDeeply } from "./json.js";
import type { KeySet } from "./key-set.js";
import { decodeJws, verifyDecoded, type DecodedJws } from "./jws.js";

interface Remembered {
  readonly decoded: DecodedJws;
  readonly key: EngineKey;
}

/** What is needed of a key set to verify by it. */
export type TokenKeys = Pick<KeySet, "counts" | "find">;

/**
 * Verifies tokens of one issuer, and remembers those that held: a token that comes with every request costs its
 * signature check once. It is forgotten when its key is no longer published or the key set has grown old, so that a key that
 * was withdrawn is withdrawn here as well. What a token says is for the caller to check each time: `exp` passes by itself.
 */
export class VerifiedTokens {
  readonly #tools: Tools;
  readonly #keys: TokenKeys;
  readonly #algorithms: readonly SignatureAlgorithm[];
  readonly #held: QuickLRU<string, Remembered>;

  /** @param most so many tokens are remembered at least, and twice as many at most; those used longest ago go first */
  constructor(tools: Tools, keys: TokenKeys, algorithms: readonly SignatureAlgorithm[], most = 1000) {
    this.#tools = tools;
    this.#keys = keys;
    this.#algorithms = algorithms;
    this.#held = new QuickLRU({ maxSize: most });
  }

  /**
   * The token's parts, frozen: at once where they are remembered.
   *
   * @param decoded the same token taken apart by decodeJws, where that has been done because it was not remembered
   * @throws what verifyJws and KeySet.find throw
   */
  verify(token: string, decoded?: DecodedJws): DecodedJws | Promise<DecodedJws> {
    // Who has taken it apart has asked whether it is remembered.
    return (decoded ? undefined : this.remembered(token)) ?? this.#verifyAnew(token, decoded);
  }

  /** The same where it was verified before and nothing has changed since; nothing is asked or computed. */
  remembered(token: string): DecodedJws | undefined {
    const found = this.#held.get(token);
    return found && this.#keys.counts(found.key) ? found.decoded : undefined;
  }

  async #verifyAnew(token: string, unbelieved = decodeJws(token)): Promise<DecodedJws> {
    let verifiedBy: EngineKey | undefined;
    const decoded = await verifyDecoded(
      this.#tools,
      unbelieved,
      this.#algorithms,
      async (header, algorithm) => {
        verifiedBy = await this.#keys.find(header, algorithm);
        return verifiedBy;
      },
    );
    // All callers share what is remembered: none may change it for the others.
    freezeDeeply(decoded.header);
    freezeDeeply(decoded.payload);
    Object.freeze(decoded);
    if (verifiedBy) this.#held.set(token, { decoded, key: verifiedBy });
    return decoded;
  }
}
