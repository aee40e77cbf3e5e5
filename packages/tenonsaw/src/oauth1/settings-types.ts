import type { CommonProviderSettings, With } from "../provider/index.js";

/** RFC 5849 section 3.4; HMAC-SHA256 is the same with the longer hash. */
export type SignatureMethod = "HMAC-SHA1" | "HMAC-SHA256" | "RSA-SHA1" | "PLAINTEXT";

/** RFC 5849 section 3.5. */
export type Transmission = "header" | "body" | "query";

/** Settings of a provider that speaks OAuth 1.0a (RFC 5849), which has neither metadata nor scopes. */
export interface OAuth1Settings extends CommonProviderSettings {
  /** Says that this is one. */
  readonly protocol: "oauth1";
  /** A URL that stands for the provider: people are told apart by it and their subject. */
  readonly issuer: string;
  /** How requests are signed. Default: HMAC-SHA1. */
  readonly signatureMethod?: SignatureMethod | undefined;
  /** Where the protocol's parameters go. Without a form to put them into, `body` means `header`, the default. */
  readonly transmission?: Transmission | undefined;
  /** Of the Authorization header, where the provider asks for one (RFC 5849 section 3.5.1). */
  readonly realm?: string | undefined;
  /** Where temporary credentials are (RFC 5849 section 2.1). */
  readonly temporaryCredentialsEndpoint: string;
  /** Where the browser is sent (RFC 5849 section 2.2). */
  readonly authorizationEndpoint: string;
  /** Where they are exchanged for token credentials (RFC 5849 section 2.3). */
  readonly tokenEndpoint: string;
  /** Tells who it is. Default: what comes along with the token credentials. */
  readonly userinfoEndpoint?: string | undefined;
  /** The callback's parameter that says that the person declined: the standard has none. */
  readonly declinedParameter?: string | undefined;
}

/** The same with their defaults. */
export type ResolvedOAuth1Settings = With<
  OAuth1Settings,
  "profile" | "sessionClaims" | "signatureMethod" | "timeoutSeconds" | "transmission"
>;
