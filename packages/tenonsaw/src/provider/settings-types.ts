import type { keyManagements } from "../jose/index.js";

/** Where a secret is to be found: an environment variable, or a file that holds nothing else. */
export type SecretReference =
  | {
      /** Name of the environment variable. */
      readonly env: string;
    }
  | {
      /** Path of the file. A line end at its end is not part of the secret. */
      readonly file: string;
    };

/** Ways for a client to prove itself at the token endpoint (OpenID Connect Core 1.0 section 9, RFC 8705 section 2). */
export type ClientAuthentication =
  | "client_secret_basic"
  | "client_secret_post"
  | "client_secret_jwt"
  | "private_key_jwt"
  | "tls_client_auth"
  | "self_signed_tls_client_auth"
  | "none";

/** OAuth 2.0 Multiple Response Type Encoding Practices 1.0, sections 3 and 5; without `none` and a bare `token`. */
export type ResponseType =
  "code" | "code id_token" | "code token" | "code id_token token" | "id_token" | "id_token token";

/** The same, section 2.1; OAuth 2.0 Form Post Response Mode 1.0; JWT Secured Authorization Response Mode, section 2.3. */
export type ResponseMode =
  "query" | "fragment" | "form_post" | "query.jwt" | "fragment.jwt" | "form_post.jwt";

/** Signature algorithms (RFC 7518 section 3.1, RFC 8037 section 3.1). */
export type SignatureAlgorithm =
  | "RS256"
  | "RS384"
  | "RS512"
  | "PS256"
  | "PS384"
  | "PS512"
  | "ES256"
  | "ES384"
  | "ES512"
  | "EdDSA"
  | "HS256"
  | "HS384"
  | "HS512";

/** What an app shows of a person. What is absent or malformed is left out. */
export interface Profile {
  readonly name?: string;
  readonly given?: string;
  readonly family?: string;
  readonly email?: string;
  readonly emailVerified?: boolean;
  readonly picture?: string;
  readonly locale?: string;
  readonly roles?: readonly string[];
}

/** A JSON Pointer (RFC 6901) such as `/user/name`, or several to be tried in turn. */
export type Pointers = string | readonly string[];

/** Where in the provider's claims each field of the profile is. Default: the standard claims. */
export interface ProfilePointers {
  /** Who it is, where there is no ID token to say so. */
  readonly subject?: Pointers | undefined;
  /** The whole name, as the person wants to be called. */
  readonly name?: Pointers | undefined;
  /** The given name. */
  readonly given?: Pointers | undefined;
  /** The family name. */
  readonly family?: Pointers | undefined;
  /** An e-mail address. */
  readonly email?: Pointers | undefined;
  /** Whether the provider has seen that the address is theirs. */
  readonly emailVerified?: Pointers | undefined;
  /** URL of a picture. */
  readonly picture?: Pointers | undefined;
  /** Language and place, such as `de-CH`. */
  readonly locale?: Pointers | undefined;
  /** What they may do, as a list of texts. */
  readonly roles?: Pointers | undefined;
}

/** The profile by code: what no pointer reaches. `subject` counts only where there is no ID token. */
export type ProfileFunction = (
  claims: Readonly<Record<string, unknown>>,
) => Profile & { readonly subject?: string };

export type ProfileMapping = ProfilePointers | ProfileFunction;

/** A public key of the provider's, as a JWK (RFC 7517 section 4). */
export interface GivenKey {
  /** Its type: RSA, EC, OKP or oct. */
  readonly kty: string;
  readonly [member: string]: unknown;
}

/** Provider metadata given by hand: the standard's members in camelCase (RFC 8414 section 2). */
export interface HandMetadata {
  /** Where the browser is sent to sign in (RFC 6749 section 3.1). */
  readonly authorizationEndpoint?: string | undefined;
  /** Where codes and refresh tokens are exchanged (RFC 6749 section 3.2). */
  readonly tokenEndpoint?: string | undefined;
  /** Where a device without a browser begins (RFC 8628 section 3.1). */
  readonly deviceAuthorizationEndpoint?: string | undefined;
  /** Where authorization requests are sent ahead (RFC 9126 section 2). */
  readonly pushedAuthorizationRequestEndpoint?: string | undefined;
  /** Where the provider's keys are, as a JWK Set (RFC 7517 section 5). */
  readonly jwksUri?: string | undefined;
  /** The keys themselves, in place of their address. */
  readonly keys?: readonly GivenKey[] | undefined;
  /** Where it is asked who somebody is (OpenID Connect Core 1.0 section 5.3). */
  readonly userinfoEndpoint?: string | undefined;
  /** Where tokens are taken back (RFC 7009 section 2). */
  readonly revocationEndpoint?: string | undefined;
  /** Where an API asks what a token is worth (RFC 7662 section 2). */
  readonly introspectionEndpoint?: string | undefined;
  /** Where the browser is sent to sign out (OpenID Connect RP-Initiated Logout 1.0 section 2). */
  readonly endSessionEndpoint?: string | undefined;
  /** Signature algorithms of ID tokens. */
  readonly idTokenSigningAlgValuesSupported?: readonly string[] | undefined;
  /** How clients may prove themselves at the token endpoint. */
  readonly tokenEndpointAuthMethodsSupported?: readonly string[] | undefined;
  /** Whether answers name their issuer, which is then required (RFC 9207 section 3). */
  readonly authorizationResponseIssParameterSupported?: boolean | undefined;
}

/** Issuers that differ in the tenant's name only. */
export interface TenantSettings {
  /** What stands for the name in `issuer`, such as {tenant}. */
  readonly placeholder: string;
  /** Whose people may sign in: names of tenants, or `any`. */
  readonly admitted: "any" | readonly string[];
}

/** What a member of JSON may be. */
export type MemberType = "string" | "number" | "boolean" | "array" | "object";

/** How a host system opens this app, in the context of what its user has before them. */
export interface LaunchSettings {
  /**
   * What the host has to be able to do: `capabilities` of its configuration (SMART App Launch 2.2). Default: what follows from
   * the scopes, from how this client proves itself and from where the launch comes from.
   */
  readonly needs?: readonly string[] | undefined;
  /** Members of the token answer that tell of the context, beyond those of the standard, and the JSON type of each. */
  readonly context?: Readonly<Record<string, MemberType>> | undefined;
  /** Hosts whose addresses differ in one name: what stands for it in `issuer`, and which are admitted. */
  readonly tenants?: TenantSettings | undefined;
  /** Origins of the host's pages that may show this app in a frame. Default: none. */
  readonly frameAncestors?: readonly string[] | undefined;
  /** Origins beside the issuer's own that the host's style documents may come from. Default: none. */
  readonly styleOrigins?: readonly string[] | undefined;
}

/**
 * The ways in which a provider may depart from the standards, each declared by name: docs/deviations.md says why and at what
 * risk. None is on by default.
 */
export interface Deviations {
  /** The issuer that metadata and tokens name, where it is another than `issuer`. */
  readonly expectedIssuer?: string | undefined;
  /** The issuer contains the tenant's name: which placeholder stands for it, and whose people may sign in. */
  readonly tenants?: TenantSettings | undefined;
  /** Where the metadata is, where that is not below the issuer. */
  readonly metadataUrl?: string | undefined;
  /** There is no ID token: who it is is read from the profile endpoint. */
  readonly noIdToken?: true | undefined;
  /** The token answer carries the person's claims. */
  readonly identityInTokenAnswer?: true | undefined;
  /** Token answers are form-encoded instead of JSON. */
  readonly formEncodedTokenAnswer?: true | undefined;
  /** Errors of the token endpoint come with status 200. */
  readonly errorInside200?: true | undefined;
  /** The token answer does not say of which type the access token is. */
  readonly tokenTypeAbsent?: true | undefined;
  /** What stands between scopes in place of a space. */
  readonly scopeSeparator?: "," | ";" | "+" | undefined;
  /** Client ID and secret are expected in Basic as they are, not form-encoded. */
  readonly basicNotEncoded?: true | undefined;
  /** The provider takes a client authentication that its metadata does not list. */
  readonly authenticationNotAdvertised?: true | undefined;
  /** A refresh token that is not honoured any more is refused without an error code. */
  readonly refusalWithoutCode?: true | undefined;
  /** Notices of sign-out name no `exp`. */
  readonly logoutTokenWithoutExpiry?: true | undefined;
  /** Names of the callback's parameters that the app needs. The browser brings them. */
  readonly keepCallbackParameters?: readonly string[] | undefined;
  /** Parameters of the provider's own, for authorization requests. */
  readonly authorizationParameters?: Readonly<Record<string, string>> | undefined;
}

/** What settings of every kind of provider have. */
export interface CommonProviderSettings {
  /** What people see: "Sign in with <title>". Default: the provider's name in the settings. */
  readonly title?: string | undefined;
  /** Client ID from the registration (OAuth 1.0a: the identifier of the client credentials). */
  readonly clientId: string;
  /** Client secret: where it is to be found, or in code the value. Leave out for a public client. */
  readonly clientSecret?: string | SecretReference | undefined;
  /**
   * The app's own signing keys, for private_key_jwt and RSA-SHA1: a JWK or JWK Set with private parts (RFC 7517), or where it
   * is to be found. `tenonsaw keys --signing` makes one.
   */
  readonly clientKeys?: string | SecretReference | undefined;
  /** Where each field of the profile is; in code also a function from claims to profile. Default: the standard claims. */
  readonly profile?: ProfileMapping | undefined;
  /**
   * What of the claims is kept with the session, and is then in `session.claims`: a name of your own for each, and where it is
   * in the claims. Such as `{ "roles": "/roles", "tenant": ["/tid", "/organisation/id"] }`. What a refresh
   * brings replaces it. Default: nothing.
   */
  readonly sessionClaims?: Readonly<Record<string, Pointers>> | undefined;
  /** Deadline for each answer of this provider, in seconds: 0.05 to 120. Default: 10. */
  readonly timeoutSeconds?: number | undefined;
}

/** Settings of a provider that speaks OpenID Connect or OAuth 2.0. */
export interface ProviderSettings extends CommonProviderSettings {
  /** Issuer URL, character for character, from which everything else is discovered. */
  readonly issuer: string;
  /**
   * What to discover by: `openid` (OpenID Connect Discovery 1.0 section 4), `oauth` (RFC 8414 section 3), `smart` (SMART App
   * Launch 2.2, Conformance: `issuer` is then the base URL of the FHIR server), or `none` but `metadata`. Default: `openid`.
   */
  readonly discovery?: "openid" | "oauth" | "smart" | "none" | undefined;
  /** This provider is a host that may open this app. With `discovery: "smart"` it is one by itself. */
  readonly launch?: LaunchSettings | undefined;
  /** Metadata by hand; what stands here wins over what is discovered. */
  readonly metadata?: HandMetadata | undefined;
  /** How the client proves itself at the token endpoint. Default: by what there is and what the metadata lists. */
  readonly clientAuthentication?: ClientAuthentication | undefined;
  /** Signature algorithm of ID tokens, as registered. Default: any the metadata lists, MACs excepted. */
  readonly idTokenSignedResponseAlg?: SignatureAlgorithm | undefined;
  /** Encryption of ID tokens, as registered (RFC 7518 section 4.1): then only encrypted ones are taken. */
  readonly idTokenEncryptedResponseAlg?: KeyManagement | undefined;
  /** Signature of userinfo answers, as registered; they are plain JSON where neither this nor the next is. */
  readonly userinfoSignedResponseAlg?: SignatureAlgorithm | undefined;
  /** Encryption of userinfo answers, as registered. */
  readonly userinfoEncryptedResponseAlg?: KeyManagement | undefined;
  /** Signature of authorization responses, with a `responseMode` of JWT (JARM). Default: as for ID tokens. */
  readonly authorizationSignedResponseAlg?: SignatureAlgorithm | undefined;
  /** Encryption of authorization responses, with a `responseMode` of JWT. Default: none. */
  readonly authorizationEncryptedResponseAlg?: KeyManagement | undefined;
  /** Signs authorization requests with the app's own key of this algorithm (RFC 9101). */
  readonly requestObjectSigningAlg?: SignatureAlgorithm | undefined;
  /** What the authorization endpoint is to answer with. All but `code`, the default, bring tokens through the browser. */
  readonly responseType?: ResponseType | undefined;
  /** How the answer comes back. Default: `query` for a code, `fragment` for everything else. */
  readonly responseMode?: ResponseMode | undefined;
  /** Binds access tokens to a key of the app's, so that nobody else can use them (DPoP, RFC 9449). Default: false. */
  readonly dpopBoundAccessTokens?: boolean | undefined;
  /**
   * Binds access tokens to the app's TLS certificate (RFC 8705 section 3). The platform's fetch has to present it, as with the
   * client authentications by TLS; `createCertifiedFetch` makes one for Node. Default: false.
   */
  readonly tlsClientCertificateBoundAccessTokens?: boolean | undefined;
  /**
   * `fapi2` holds both sides to the FAPI 2.0 Security Profile: requests are sent ahead, tokens are bound, the client proves
   * itself by a key or certificate, answers name their issuer, and nothing is signed with weaker algorithms.
   */
  readonly securityProfile?: "fapi2" | undefined;
  /** Who else a token may be for beside this client (`aud`). Default: nobody. */
  readonly trustedAudiences?: readonly string[] | undefined;
  /** Whom client assertions are for (RFC 7523 section 3). Default: the issuer. */
  readonly clientAssertionAudience?: string | undefined;
  /** Issuers whose word about a person counts beside the provider's (aggregated and distributed claims). Default: none. */
  readonly trustedClaimsIssuers?: readonly string[] | undefined;
  /** Sends authorization requests ahead (RFC 9126). Default: where the provider's metadata requires it. */
  readonly requirePushedAuthorizationRequests?: boolean | undefined;
  /** Scopes to ask for, separated by spaces (RFC 6749 section 3.3). Default: `openid`. */
  readonly scope?: string | undefined;
  /** The API the access token is for, as a URL, where the provider asks for it (RFC 8707). */
  readonly resource?: string | undefined;
  /** The same, at providers that call it audience. */
  readonly audience?: string | undefined;
  /** How this provider departs from the standards. */
  readonly deviations?: Deviations | undefined;
}

/** `Type` with some of its members there for good: what has a default has it. */
export type With<Type, Members extends keyof Type> = Omit<Type, Members> & {
  readonly [Member in Members]-?: Exclude<Type[Member], undefined>;
};

/** Settings of a provider with their defaults. */
export type ResolvedProviderSettings = With<
  ProviderSettings,
  | "deviations"
  | "discovery"
  | "dpopBoundAccessTokens"
  | "metadata"
  | "profile"
  | "responseType"
  | "scope"
  | "sessionClaims"
  | "timeoutSeconds"
  | "tlsClientCertificateBoundAccessTokens"
  | "trustedAudiences"
  | "trustedClaimsIssuers"
>;

/** Encryption of a content key (RFC 7518 section 4.1). */
export type KeyManagement = (typeof keyManagements)[number];
