import * as v from "valibot";
import { keyManagements, signatureAlgorithms } from "../jose/index.js";
import { isSecureUrl, Secret } from "../platform/index.js";
import { fail } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import { deviations } from "./deviations.js";

/** A URL that is https, or http on loopback. */
export const secureUrl = v.pipe(
  v.string(),
  v.check(isSecureUrl, "must be an https URL (http only on loopback: localhost, 127.0.0.1, [::1])"),
);

const nonEmpty = v.pipe(v.string(), v.minLength(1, "must not be empty"));

/** Where a secret is to be found: an environment variable, or a file that holds nothing else. */
export const secretReference = v.union(
  [v.strictObject({ env: nonEmpty }), v.strictObject({ file: nonEmpty })],
  "must be { env: NAME } or { file: PATH }",
);
export type SecretReference = v.InferOutput<typeof secretReference>;

export const clientAuthentications = [
  "client_secret_basic",
  "client_secret_post",
  "client_secret_jwt",
  "private_key_jwt",
  "tls_client_auth",
  "self_signed_tls_client_auth",
  "none",
] as const;
export type ClientAuthentication = (typeof clientAuthentications)[number];

/** OAuth 2.0 Multiple Response Type Encoding Practices 1.0, sections 3 and 5; without `none` and a bare `token`. */
export const responseTypes = [
  "code",
  "code id_token",
  "code token",
  "code id_token token",
  "id_token",
  "id_token token",
] as const;
export type ResponseType = (typeof responseTypes)[number];

/** The same, section 2.1; OAuth 2.0 Form Post Response Mode 1.0; JWT Secured Authorization Response Mode, section 2.3. */
export const responseModes = [
  "query",
  "fragment",
  "form_post",
  "query.jwt",
  "fragment.jwt",
  "form_post.jwt",
] as const;
export type ResponseMode = (typeof responseModes)[number];

const signature = v.picklist(signatureAlgorithms, `must be one of ${signatureAlgorithms.join(", ")}`);
const keyManagement = v.picklist(keyManagements, `must be one of ${keyManagements.join(", ")}`);

/** A JSON Pointer (RFC 6901), or several to be tried in turn. */
const pointer = v.pipe(
  v.string(),
  v.regex(/^(\/([^~/]|~[01])*)+$/, "must be a JSON Pointer such as /user/name"),
);
const pointers = v.union(
  [pointer, v.pipe(v.array(pointer), v.minLength(1))],
  "must be a JSON Pointer, or a list of them",
);

export const profileMapping = v.strictObject({
  subject: v.optional(pointers),
  name: v.optional(pointers),
  given: v.optional(pointers),
  family: v.optional(pointers),
  email: v.optional(pointers),
  emailVerified: v.optional(pointers),
  picture: v.optional(pointers),
  locale: v.optional(pointers),
  roles: v.optional(pointers),
});
export type ProfilePointers = v.InferOutput<typeof profileMapping>;
export type ProfileMapping = ProfilePointers | ProfileFunction;

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

/** The profile by code: what no pointer reaches. `subject` counts only where there is no ID token. */
export type ProfileFunction = (
  claims: Readonly<Record<string, unknown>>,
) => Profile & { readonly subject?: string };
const profileFunction = v.custom<ProfileFunction>((value) => typeof value === "function");

/** Provider metadata given by hand: the standard's members in camelCase (RFC 8414 section 2). */
export const handMetadata = v.strictObject({
  authorizationEndpoint: v.optional(secureUrl),
  tokenEndpoint: v.optional(secureUrl),
  deviceAuthorizationEndpoint: v.optional(secureUrl),
  pushedAuthorizationRequestEndpoint: v.optional(secureUrl),
  jwksUri: v.optional(secureUrl),
  /** The keys themselves, in place of their address. */
  keys: v.optional(v.array(v.looseObject({ kty: v.string() }))),
  userinfoEndpoint: v.optional(secureUrl),
  revocationEndpoint: v.optional(secureUrl),
  endSessionEndpoint: v.optional(secureUrl),
  idTokenSigningAlgValuesSupported: v.optional(v.array(v.string())),
  tokenEndpointAuthMethodsSupported: v.optional(v.array(v.string())),
  authorizationResponseIssParameterSupported: v.optional(v.boolean()),
});

const scopeToken = "[\\x21\\x23-\\x5b\\x5d-\\x7e]+";

export const providerEntries = {
  /** Issuer URL, from which everything else is discovered. */
  issuer: v.pipe(
    secureUrl,
    v.check((url) => !/[?#]/.test(url), "must have neither query nor fragment"),
  ),
  /** What to discover by: OpenID Connect Discovery 1.0 section 4, RFC 8414 section 3, or nothing but `metadata`. */
  discovery: v.optional(
    v.picklist(["openid", "oauth", "none"], 'must be "openid", "oauth" or "none"'),
    "openid",
  ),
  /** Metadata by hand; what stands here wins over what is discovered. */
  metadata: v.optional(handMetadata, {}),
  /** What people see: "Sign in with <title>". Default: the provider's name in the settings. */
  title: v.optional(nonEmpty),
  /** Client ID from the registration. */
  clientId: nonEmpty,
  /** Client secret: the value, or where it is to be found. Leave out for a public client. */
  clientSecret: v.optional(
    v.union(
      [nonEmpty, ...secretReference.options],
      "must be a non-empty text, { env: NAME } or { file: PATH }",
    ),
  ),
  /**
   * The app's own signing keys, for private_key_jwt: a JWK or JWK Set with private parts (RFC 7517), or where it is to
   * be found. `tenonsaw keys --signing` makes one.
   */
  clientKeys: v.optional(
    v.union(
      [nonEmpty, ...secretReference.options],
      "must be a JWK Set as text, { env: NAME } or { file: PATH }",
    ),
  ),
  /** How the client proves itself at the token endpoint (OpenID Connect Core 1.0 section 9). Default: by metadata. */
  clientAuthentication: v.optional(
    v.picklist(clientAuthentications, `must be one of ${clientAuthentications.join(", ")}`),
  ),
  /** Signature algorithm of ID tokens, as registered. Default: any the metadata lists, MACs excepted. */
  idTokenSignedResponseAlg: v.optional(signature),
  /** Encryption of ID tokens, as registered: then only encrypted ones are taken. */
  idTokenEncryptedResponseAlg: v.optional(keyManagement),
  /** The same for userinfo answers, which are plain JSON where neither is registered. */
  userinfoSignedResponseAlg: v.optional(signature),
  userinfoEncryptedResponseAlg: v.optional(keyManagement),
  /** The same for authorization responses, with a `responseMode` of JWT (JARM). Default: as for ID tokens. */
  authorizationSignedResponseAlg: v.optional(signature),
  authorizationEncryptedResponseAlg: v.optional(keyManagement),
  /** Signs authorization requests with the app's own key of this algorithm (RFC 9101). */
  requestObjectSigningAlg: v.optional(signature),
  /** What the authorization endpoint is to answer with. All but `code` bring tokens through the browser. */
  responseType: v.optional(v.picklist(responseTypes, `must be one of ${responseTypes.join(", ")}`), "code"),
  /** How the answer comes back. Default: `query` for a code, `fragment` for everything else. */
  responseMode: v.optional(v.picklist(responseModes, `must be one of ${responseModes.join(", ")}`)),
  /** Binds access tokens to a key of the app's, so that nobody else can use them (DPoP, RFC 9449). */
  dpopBoundAccessTokens: v.optional(v.boolean(), false),
  /**
   * Binds access tokens to the app's TLS certificate (RFC 8705 section 3). The platform's fetch has to present it, as
   * with the client authentications by TLS; `createCertifiedFetch` makes one for Node.
   */
  tlsClientCertificateBoundAccessTokens: v.optional(v.boolean(), false),
  /**
   * `fapi2` holds both sides to the FAPI 2.0 Security Profile: requests are sent ahead, tokens are bound, the client
   * proves itself by a key or certificate, answers name their issuer, and nothing is signed with weaker algorithms.
   */
  securityProfile: v.optional(v.picklist(["fapi2"], 'must be "fapi2"')),
  /** Who else a token may be for beside this client (`aud`). Default: nobody. */
  trustedAudiences: v.optional(v.array(nonEmpty), []),
  /** Whom client assertions are for (RFC 7523 section 3). Default: the issuer. */
  clientAssertionAudience: v.optional(secureUrl),
  /** Issuers whose word about a person counts beside the provider's (aggregated and distributed claims). Default: none. */
  trustedClaimsIssuers: v.optional(v.array(secureUrl), []),
  /** Sends authorization requests ahead (RFC 9126). Default: where the provider's metadata requires it. */
  requirePushedAuthorizationRequests: v.optional(v.boolean()),
  /** Scopes to ask for, separated by spaces. */
  scope: v.optional(
    v.pipe(
      v.string(),
      v.regex(new RegExp(`^${scopeToken}( ${scopeToken})*$`), "must be scopes separated by single spaces"),
    ),
    "openid",
  ),
  /** The API the access token is for, where the provider asks for it (RFC 8707). */
  resource: v.optional(secureUrl),
  /** The same, at providers that call it audience. */
  audience: v.optional(nonEmpty),
  /**
   * Where in the provider's claims each field of the profile is; in code also a function from claims to profile.
   * Default: the standard claims.
   */
  profile: v.optional(v.union([profileMapping, profileFunction], "must be JSON Pointers by field"), {}),
  deviations: v.optional(deviations, {}),
  /** Deadline for each answer of this provider, in seconds. */
  timeoutSeconds: v.optional(
    v.pipe(v.number(), v.minValue(0.05, "must be at least 0.05"), v.maxValue(120, "must be at most 120")),
    10,
  ),
};

export const providerSettings = v.pipe(
  v.strictObject(providerEntries),
  v.forward(
    v.check(({ scope, deviations: declared }) => {
      const isPlainOauth = declared.noIdToken ?? declared.identityInTokenAnswer;
      return isPlainOauth === true || scope.split(" ").includes("openid");
    }, "must contain openid"),
    ["scope"],
  ),
  v.forward(
    v.check(
      // Multiple Response Types 5: tokens are never to be in the query, where logs and referrers would carry them.
      ({ responseType, responseMode = "fragment" }) => responseType === "code" || responseMode !== "query",
      "must not be query where tokens come back with the browser",
    ),
    ["responseMode"],
  ),
  v.forward(
    v.check(
      ({ responseType, deviations: declared }) =>
        declared.noIdToken !== true || !responseType.includes("id_token"),
      "asks for ID tokens, and deviations.noIdToken says that there are none",
    ),
    ["responseType"],
  ),
  v.forward(
    v.check(
      ({ issuer, deviations: declared }) =>
        !declared.tenants || issuer.includes(declared.tenants.placeholder),
      "must contain the placeholder of deviations.tenants",
    ),
    ["issuer"],
  ),
);

export type ProviderSettings = v.InferInput<typeof providerSettings>;
export type ResolvedProviderSettings = v.InferOutput<typeof providerSettings>;

/**
 * The secret itself, fetched from where the settings say.
 *
 * @throws provider.secret-missing
 */
export function resolveSecret(tools: Tools, reference: string | SecretReference, what: string): Secret {
  if (typeof reference === "string") return new Secret(reference);
  if ("env" in reference) {
    const value = tools.platform.environment(reference.env);
    if (value !== undefined && value !== "") return new Secret(value);
    fail("provider.secret-missing", {
      received: `${what}: environment variable ${reference.env} is not set`,
    });
  }
  // A newline at the end is the editor's, not the secret's.
  const value = tools.platform.readFile(reference.file)?.replace(/\r?\n$/, "");
  if (value !== undefined && value !== "") return new Secret(value);
  fail("provider.secret-missing", { received: `${what}: file ${reference.file} is not there, or empty` });
}
