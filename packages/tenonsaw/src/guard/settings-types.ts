import type { SignatureMethod } from "../oauth1/index.js";
import type { Platform } from "../platform/index.js";
import type {
  ClientAuthentication,
  GivenKey,
  Pointers,
  SecretReference,
  SignatureAlgorithm,
  TenantSettings,
  With,
} from "../provider/index.js";
import type { ProblemReport, Trace } from "../trace/index.js";

/** How access tokens of an issuer are made: what they name, and where in them things stand. */
export interface TokenFormat {
  /** Whose tokens, character for character (`iss`), where this format spells it in another way. */
  readonly issuer?: string | undefined;
  /** What this API is called in tokens of this format (`aud`). */
  readonly audience?: string | readonly string[] | undefined;
  /** Claims that a token of this format has, with their values: `{ "format": 1 }`. */
  readonly claims?: Readonly<Record<string, string | number | boolean>> | undefined;
  /** Takes tokens that have no type of their own (RFC 9068 asks for `at+jwt`), with iss, aud and exp at least. Default: false. */
  readonly untyped?: boolean | undefined;
  /** Where the scope is: text with spaces, or a list. Default: `/scope`. */
  readonly scope?: Pointers | undefined;
  /** Where the roles are: a list, or text with spaces. Default: `/roles` (RFC 9068 section 2.2.3.1). */
  readonly roles?: Pointers | undefined;
  /** Where the permissions are. Default: `/permissions`. */
  readonly permissions?: Pointers | undefined;
  /** Not taken: it is here so that a refusal can say which format came. Default: false. */
  readonly refused?: boolean | undefined;
}

/** How this API proves itself to an issuer: for introspection and token exchange. */
export interface GuardClient {
  /** Client ID of this API's own registration. */
  readonly clientId: string;
  /** Client secret: where it is to be found, or the value. */
  readonly clientSecret?: string | SecretReference | undefined;
  /** The API's own signing keys, for private_key_jwt: a JWK or JWK Set with private parts, or where it is to be found. */
  readonly clientKeys?: string | SecretReference | undefined;
  /** How the client proves itself. Default: by what there is and what the metadata lists. */
  readonly clientAuthentication?: ClientAuthentication | undefined;
  /** Where tokens are exchanged, where no metadata says so (RFC 8693). */
  readonly tokenEndpoint?: string | undefined;
}

/** How the issuer is asked what a token is worth (RFC 7662). */
export interface IntrospectionSettings {
  /** Where; default: `introspection_endpoint` of the metadata. */
  readonly endpoint?: string | undefined;
  /** Asks for signed answers and takes no others (RFC 9701). Default: false. */
  readonly signed?: boolean | undefined;
  /** How long an answer counts, in seconds, and never beyond the token's `exp`: 0 to 300. Default: 10. */
  readonly keepSeconds?: number | undefined;
  /** The issuer's answers name no audience: it tells each API of its own tokens only. Default: false. */
  readonly withoutAudience?: boolean | undefined;
}

/** Whose access tokens an API takes, and which of them. */
export interface TokenIssuer extends TokenFormat {
  /** Issuer URL, character for character; with a placeholder where `tenants` declares one. */
  readonly issuer: string;
  /** What this API is called in the tokens (`aud`): one name, or several. */
  readonly audience: string | readonly string[];
  /** By what the keys are found: `openid`, `oauth` (RFC 8414), or `none` but `jwksUri` or `keys`. Default: `openid`. */
  readonly discovery?: "openid" | "oauth" | "none" | undefined;
  /** Where the metadata is, where that is not below the issuer. */
  readonly metadataUrl?: string | undefined;
  /** The issuer contains the tenant's name: which placeholder stands for it, and whose tokens are taken. */
  readonly tenants?: TenantSettings | undefined;
  /** Where the keys are. Default: `jwks_uri` of the metadata. */
  readonly jwksUri?: string | undefined;
  /** The keys themselves. */
  readonly keys?: readonly GivenKey[] | undefined;
  /** Signature algorithms that are taken. Default: all that sign with a key pair. */
  readonly algorithms?: readonly SignatureAlgorithm[] | undefined;
  /** Further formats of the same issuer's tokens, by a name of your own for each. */
  readonly formats?: Readonly<Record<string, TokenFormat>> | undefined;
  /** How this API proves itself to the issuer. */
  readonly client?: GuardClient | undefined;
  /** Asks the issuer about opaque tokens; takes `client`. */
  readonly introspection?: true | IntrospectionSettings | undefined;
  /** What other issuers and audiences are, so that a refusal can say it: `{ "production": "https://id.quayside.example" }`. */
  readonly elsewhere?: Readonly<Record<string, string>> | undefined;
  /** Deadline for each answer of the issuer, in seconds: 0.05 to 120. Default: 10. */
  readonly timeoutSeconds?: number | undefined;
}

/** Notes what may happen once: true for exactly one caller until it expires. Every store of the library is one. */
export interface ReplayMarks {
  useMark(id: string, expiresAt: number, now: number): Promise<boolean>;
}

/**
 * What an app knows of the client and the token of a signed request. Plain data, and secret. A method for which a secret is
 * missing, or empty, is refused for that client: everybody could sign by it.
 */
export interface SignedCredentials {
  readonly clientSecret?: string;
  /** Of the client, for RSA-SHA1: a public JWK. */
  readonly publicKey?: GivenKey;
  /** Of the token, where the request names one. */
  readonly tokenSecret?: string;
  /** Whose the token is; absent where there is none. */
  readonly subject?: string;
  /** What it allows, separated by spaces. */
  readonly scope?: string;
  readonly roles?: readonly string[];
  readonly permissions?: readonly string[];
}

/** Requests signed by OAuth 1.0a (RFC 5849). */
export interface SignedRequestSettings {
  /** Finds what a request is signed with; undefined for what is unknown or was revoked. */
  readonly credentialsOf: (
    clientId: string,
    token: string | undefined,
  ) => SignedCredentials | undefined | Promise<SignedCredentials | undefined>;
  /** Signature methods that are taken. Default: HMAC-SHA256, HMAC-SHA1 and RSA-SHA1. */
  readonly methods?: readonly SignatureMethod[] | undefined;
  /** By how many seconds a timestamp may differ from this clock: 1 to 3600. Default: 300. */
  readonly windowSeconds?: number | undefined;
}

/** An API that this one calls for its caller, with a token of its own (RFC 8693). */
export interface DownstreamApi {
  readonly audience?: string | undefined;
  readonly resource?: string | undefined;
  /** What the token has to allow, separated by spaces. */
  readonly scope?: string | undefined;
}

/** What a guard needs to know beside whose tokens it takes. */
export interface GuardCommon {
  /** The identifier of this API as a URL, for its metadata (RFC 9728). Default: the first audience, where that is a URL. */
  readonly resource?: string | undefined;
  /** What people call this API: the realm of challenges, the name in its metadata. Default: the first audience. */
  readonly name?: string | undefined;
  /**
   * Where callers see this API, such as `https://tides.example`: proofs and signed requests name it. Default: the origin of
   * `resource`; where there is none, calls with a proof are refused.
   */
  readonly origin?: string | undefined;
  /** Origins of pages whose scripts may call this API and read its answers (CORS), or `any`. Default: none. */
  readonly pageOrigins?: "any" | readonly string[] | undefined;
  /** Scopes that the metadata lists. */
  readonly scopes?: readonly string[] | undefined;
  /** Takes no tokens but those bound to a key (RFC 9449). Default: false. */
  readonly proofRequired?: boolean | undefined;
  /**
   * Wants its own nonce in each proof (RFC 9449 section 9): a secret of 32 characters or more that all processes share, or
   * where it is to be found. Default: no nonces.
   */
  readonly proofNonces?: string | SecretReference | undefined;
  /** Where used proofs and nonces are noted, for all processes: a store of the library. Default: this process's memory. */
  readonly store?: ReplayMarks | undefined;
  /** Takes the token from a form as well (RFC 6750 section 2.2). Default: false. */
  readonly formToken?: boolean | undefined;
  /** The certificate of whoever called, DER, where the adapter cannot know it: behind a proxy that ends TLS. */
  readonly certificateOf?:
    ((header: (name: string) => string | undefined) => Uint8Array | undefined) | undefined;
  /** Takes requests signed by OAuth 1.0a. */
  readonly signedRequests?: SignedRequestSettings | undefined;
  /** APIs that this one calls for its callers, by names of your own. */
  readonly downstream?: Readonly<Record<string, DownstreamApi>> | undefined;
  /**
   * Tells callers the whole problem, and lists the last refusals at `/guard/refusals`. Refused unless `origin` is on this machine.
   * Default: false.
   */
  readonly development?: boolean | undefined;
  /** Is told each refusal. Default: a line on standard error. */
  readonly onProblem?: ((report: ProblemReport) => unknown) | undefined;
  /** Is told what happens, as it happens. */
  readonly trace?: Trace | undefined;
  readonly platform?: Platform | undefined;
}

/** Settings of a guard: one issuer as it is, or several under `issuers`. */
export type GuardSettings = GuardCommon &
  (TokenIssuer | ({ readonly issuers: readonly TokenIssuer[] } & { readonly issuer?: undefined }));

/** Settings of an issuer with their defaults. */
export type ResolvedIssuer = Omit<
  With<TokenIssuer, "algorithms" | "discovery" | "elsewhere" | "formats" | "timeoutSeconds" | "untyped">,
  "audience" | "introspection" | "jwksUri" | "keys"
> & {
  readonly audience: readonly string[];
  readonly introspection?:
    With<IntrospectionSettings, "keepSeconds" | "signed" | "withoutAudience"> | undefined;
  /** Their address, or themselves. */
  readonly keySource?: string | readonly GivenKey[];
};

/** What a guard needs to know beside, with defaults. */
export type ResolvedCommon = With<GuardCommon, "development" | "downstream" | "formToken" | "proofRequired">;
