import {
  isSignatureAlgorithm,
  KeySet,
  signatureBytes,
  verifyDecoded,
  type DecodedJws,
} from "../jose/index.js";
import type { EngineKey } from "../platform/index.js";
import { fail, isProblem, ProblemError, type ProblemCode } from "../problem/index.js";
import {
  directEndpoint,
  fetchMetadata,
  metadataFreshSeconds,
  openProvider,
  readMembersBy,
  refuseMetadata,
  requireNamedIssuer,
  requireNoLoopback,
  type Provider,
} from "../provider/index.js";
import { note, type Tools } from "../trace/index.js";
import { KeptFresh, type Loaded } from "../trace/kept-fresh.js";
import * as v from "valibot";
import type { ResolvedIssuer } from "./settings-types.js";

const metadataSchema = v.object({
  issuer: v.string(),
  jwks_uri: v.optional(directEndpoint),
  introspection_endpoint: v.optional(directEndpoint),
});

/** What is known of an issuer once it has been asked. */
export interface OpenIssuer {
  readonly keys?: KeySet;
  /** Where they are from. */
  readonly source?: ResolvedIssuer["keySource"];
  readonly introspectionEndpoint?: string;
}

/** An issuer whose tokens are taken: asked when it is first needed, and again after a while where that failed. */
export class IssuerDoor {
  readonly settings: ResolvedIssuer;
  readonly #tools: Tools;
  readonly #issuer: KeptFresh<OpenIssuer>;
  readonly #client: KeptFresh<Provider>;

  constructor(tools: Tools, settings: ResolvedIssuer) {
    this.#tools = tools;
    this.settings = settings;
    const keepOn = (what: string) => (error: unknown) =>
      tools.report?.(
        this.#unusable(error),
        `renewing ${what} of ${settings.issuer}, with what is at hand kept in use`,
      );
    this.#issuer = new KeptFresh(tools.platform, (before) => this.#open(before), keepOn("the metadata"));
    this.#client = new KeptFresh(
      tools.platform,
      () => this.#openClient(),
      keepOn("the metadata for a client"),
    );
  }

  /**
   * Whether what was verified by a key of this issuer still holds without asking anybody: a key that was withdrawn is withdrawn
   * here as well.
   */
  counts(key: EngineKey): boolean {
    return this.#issuer.peek()?.keys?.counts(key) === true;
  }

  /** By how many seconds the issuer's clock is ahead, where that is known. */
  get clockAhead(): number | undefined {
    return this.#issuer.latest?.keys?.clockAhead;
  }

  /**
   * However many ask, there is one request at a time, and after a failure none until the cool-down is over.
   *
   * @throws guard.issuer-unusable
   */
  async open(): Promise<OpenIssuer> {
    try {
      return await this.#issuer.get();
    } catch (error) {
      throw this.#unusable(error);
    }
  }

  /**
   * Verifies a signed token: its signature by the issuer's keys and nothing else yet. At once where the keys are at hand.
   *
   * @returns the key that it was verified by
   * @throws guard.token-unreadable, guard.algorithm-refused, guard.key-unknown, guard.signature-mismatch, guard.issuer-unusable
   */
  verify(decoded: DecodedJws): EngineKey | Promise<EngineKey> {
    const opened = this.#issuer.peek();
    return opened
      ? this.#verifyBy(opened, decoded)
      : this.open().then((found) => this.#verifyBy(found, decoded));
  }

  #verifyBy({ keys }: OpenIssuer, decoded: DecodedJws): EngineKey | Promise<EngineKey> {
    if (!keys) fail("guard.key-unknown", { received: "a signed token, of an issuer that publishes no keys" });
    let verifiedBy: EngineKey | undefined;
    const note = (key: EngineKey) => (verifiedBy = key);
    const explain = (error: unknown): never => {
      throw readable(error, decoded);
    };
    const conclude = () => verifiedBy ?? fail("guard.key-unknown", { received: "no key" });
    try {
      const verifying = verifyDecoded(this.#tools, decoded, this.settings.algorithms, (header, algorithm) => {
        const finding = keys.find(header, algorithm);
        return finding instanceof Promise
          ? finding.then(note, (error: unknown) => this.#explain(error))
          : note(finding);
      });
      return verifying instanceof Promise ? verifying.then(conclude, explain) : conclude();
    } catch (error) {
      return explain(error);
    }
  }

  /** An issuer that cannot be asked is told from a token that is not its own. */
  #explain(error: unknown): never {
    throw isProblem(error, "jose.key-unknown") ? error : this.#unusable(error);
  }

  /**
   * This API as a client of the issuer.
   *
   * @throws guard.exchange-unknown, guard.issuer-unusable, provider.secret-missing
   */
  async client(): Promise<Provider> {
    try {
      return await this.#client.get();
    } catch (error) {
      throw this.#unusable(error);
    }
  }

  async #openClient(): Promise<Loaded<Provider>> {
    const { issuer, client, discovery, metadataUrl, tenants, introspection, timeoutSeconds } = this.settings;
    if (!client)
      fail("guard.exchange-unknown", { received: `the issuer ${issuer} without client`, because: "client" });
    const { tokenEndpoint, ...own } = client;
    const { introspectionEndpoint = introspection?.endpoint } = await this.open();
    // An API sends nobody to sign in, so an issuer without a place for that will do; nor does it exchange anything by itself.
    const tokens = tokenEndpoint ?? (discovery === "none" ? introspectionEndpoint : undefined);
    const value = await openProvider(
      {
        ...own,
        issuer,
        discovery,
        timeoutSeconds,
        scope: "api",
        metadata: {
          authorizationEndpoint: introspectionEndpoint ?? `${new URL(issuer).origin}/`,
          ...(tokens !== undefined && { tokenEndpoint: tokens }),
        },
        deviations: {
          noIdToken: true,
          ...(metadataUrl !== undefined && { metadataUrl }),
          ...(tenants && { tenants }),
        },
      },
      this.#tools,
    );
    return { value, freshSeconds: metadataFreshSeconds };
  }

  async #open(before: OpenIssuer | undefined): Promise<Loaded<OpenIssuer>> {
    const { issuer, discovery, metadataUrl, tenants, keySource, introspection, timeoutSeconds } =
      this.settings;
    const isTold =
      keySource !== undefined && (introspection === undefined || introspection.endpoint !== undefined);
    const deviations = { ...(metadataUrl !== undefined && { metadataUrl }), ...(tenants && { tenants }) };
    const isFetched = discovery !== "none" && !isTold;
    const metadata = isFetched
      ? await fetchMetadata(this.#tools, { issuer, discovery, deviations, timeoutSeconds })
      : { issuer };
    const read = readMembersBy(metadataSchema, metadata);
    if (isFetched) requireNamedIssuer(this.#tools, read.issuer, issuer);
    requireNoLoopback(issuer, read);
    const source = keySource ?? read.jwks_uri;
    const endpoint = introspection?.endpoint ?? read.introspection_endpoint;
    const missing = introspection
      ? endpoint === undefined
        ? "introspection_endpoint"
        : undefined
      : source === undefined
        ? "jwks_uri"
        : undefined;
    if (missing !== undefined) refuseMetadata(missing, "is missing, and none is given by hand");
    // Keys that are where they were are the ones at hand.
    const known = before && before.source === source ? before.keys : undefined;
    const keys =
      source === undefined ? undefined : (known ?? new KeySet(this.#tools, { keys: source, timeoutSeconds }));
    if (!before) note(this.#tools, "guard", `tokens of ${issuer} are taken`);
    const value = {
      ...(keys && { keys, source }),
      ...(endpoint !== undefined && { introspectionEndpoint: endpoint }),
    };
    return { value, freshSeconds: isFetched ? metadataFreshSeconds : Infinity };
  }

  /** What keeps this API from judging is not the caller's fault. */
  #unusable(error: unknown): unknown {
    if (!isProblem(error) || error.problem.station === "guard") return error;
    return unusable(this.settings.issuer, error);
  }
}

export function unusable(issuer: string, error: ProblemError): ProblemError {
  const { title, code, received, expected, here, retryAfterSeconds } = error.problem;
  return new ProblemError("guard.issuer-unusable", {
    received: `${issuer}: ${title}${received === undefined ? "" : `: ${received}`} (${code})`,
    expected,
    ...(here !== undefined && { here }),
    ...(retryAfterSeconds !== undefined && { retryAfterSeconds }),
    cause: error,
  });
}

/** What the problems of jose/ are at a token, with their cause; all others are that it cannot be read. */
const atToken: Partial<Record<ProblemCode, readonly [ProblemCode, string?]>> = {
  "jose.algorithm-refused": ["guard.algorithm-refused"],
  "jose.key-unknown": ["guard.key-unknown"],
  "jose.signature-mismatch": ["guard.signature-mismatch"],
  "jose.encrypted": ["guard.token-unreadable", "encrypted"],
  "jose.token-too-large": ["guard.token-unreadable", "too-large"],
};

/** What is wrong with a token's form or signature, in the guard's terms. */
export function readable(error: unknown, decoded?: DecodedJws): unknown {
  if (!isProblem(error) || error.problem.station !== "jose") return error;
  const { code, received = "", expected } = error.problem;
  const [made, cause] = atToken[code] ?? ["guard.token-unreadable"];
  const wasCut = made === "guard.signature-mismatch" && decoded !== undefined && isCut(decoded);
  const ownCause = made === "guard.key-unknown" ? error.problem.because : cause;
  return new ProblemError(made, { received, expected, cause: error, because: wasCut ? "cut" : ownCause });
}

/** How many bytes signatures of RSA have, by the usual lengths of its keys. */
const rsaSignature = [256, 384, 512];

function isCut({ header: { alg }, signature }: DecodedJws): boolean {
  const fixed = isSignatureAlgorithm(alg) ? signatureBytes(alg) : undefined;
  return fixed === undefined ? !rsaSignature.includes(signature.length) : signature.length !== fixed;
}
