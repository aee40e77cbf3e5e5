import * as v from "valibot";
import { keyManagements, signatureAlgorithms } from "../jose/index.js";
import { parseUrl, isSecureUrl, Secret } from "../platform/index.js";
import { fail } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import { bareText, isBare, words } from "./bare-text.js";
import { deviations, hasIdTokens, tenantSettings } from "./deviations.js";
import type {
  ClientAuthentication,
  HandMetadata,
  ProfileFunction,
  ResponseMode,
  ResponseType,
  SecretReference,
} from "./settings-types.js";

/** A URL that is https, or http on loopback. */
export const secureUrl = v.pipe(
  v.string(),
  v.check(
    isSecureUrl,
    ({ input }) =>
      `must be an https URL (http only on loopback: localhost, 127.0.0.1, [::1])${/^(localhost|[\w-]+(\.[\w-]+)+)(:\d+)?(\/|$)/.test(input) ? ", and has no scheme: https:// belongs before it" : ""}`,
  ),
);

const nonEmpty = v.pipe(v.string(), v.minLength(1));

/** A name from a list that others may add to: any, but for a known one that is spelt in another way. */
function nameAmong(known: readonly string[]) {
  const lettersOf = (text: string) => text.toLowerCase().replace(/[^a-z0-9]/g, "");
  const nearest = (text: string) => known.find((each) => lettersOf(each) === lettersOf(text));
  return v.pipe(
    bareText,
    v.check(
      (text) => [undefined, text].includes(nearest(text)),
      ({ input }) => `must be spelt ${nearest(input) ?? ""}, as the standards do`,
    ),
  );
}

const variableName = v.pipe(
  nonEmpty,
  v.regex(/^(?!process\.env\.)[^\s$={}]+$/, "must be the name of a variable alone, such as CLIENT_SECRET"),
);

/** Where a secret is to be found: an environment variable, or a file that holds nothing else. */
export const secretReference = v.union(
  [v.strictObject({ env: variableName }), v.strictObject({ file: nonEmpty })],
  "must be { env: NAME } or { file: PATH }",
);

export const clientAuthentications = [
  "client_secret_basic",
  "client_secret_post",
  "client_secret_jwt",
  "private_key_jwt",
  "tls_client_auth",
  "self_signed_tls_client_auth",
  "none",
] as const satisfies readonly ClientAuthentication[];

export const responseTypes = [
  "code",
  "code id_token",
  "code token",
  "code id_token token",
  "id_token",
  "id_token token",
] as const satisfies readonly ResponseType[];

export const responseModes = [
  "query",
  "fragment",
  "form_post",
  "query.jwt",
  "fragment.jwt",
  "form_post.jwt",
] as const satisfies readonly ResponseMode[];

export const signature = v.picklist(signatureAlgorithms, `must be one of ${signatureAlgorithms.join(", ")}`);
const keyManagement = v.picklist(keyManagements, `must be one of ${keyManagements.join(", ")}`);

/** A JSON Pointer (RFC 6901), or several to be tried in turn. */
export const pointer = v.pipe(
  v.string(),
  v.regex(/^(\/([^~/]|~[01])*)+$/, "must be a JSON Pointer such as /user/name"),
  isBare,
);
export const pointers = v.union(
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
const profileFunction = v.custom<ProfileFunction>((value) => typeof value === "function");

/** What a public key has (RFC 7518 sections 6.2.1 and 6.3.1, RFC 8037 section 2); one of a MAC is never public. */
const publicMembers: Readonly<Record<string, readonly string[]>> = {
  RSA: ["n", "e"],
  EC: ["crv", "x", "y"],
  OKP: ["crv", "x"],
};
const publicKey = v.pipe(
  v.looseObject({ kty: v.string() }),
  v.check(
    (key) => publicMembers[key.kty]?.every((name) => typeof key[name] === "string") === true,
    "must be a public key: RSA with n and e, EC with crv, x and y, or OKP with crv and x",
  ),
  v.check((key) => !("d" in key), "must be a public key, and has its private part, d"),
);

export const handMetadata = v.strictObject({
  authorizationEndpoint: v.optional(secureUrl),
  tokenEndpoint: v.optional(secureUrl),
  deviceAuthorizationEndpoint: v.optional(secureUrl),
  pushedAuthorizationRequestEndpoint: v.optional(secureUrl),
  jwksUri: v.optional(secureUrl),
  keys: v.optional(v.pipe(v.array(publicKey), v.minLength(1, "must hold one at least"))),
  userinfoEndpoint: v.optional(secureUrl),
  revocationEndpoint: v.optional(secureUrl),
  introspectionEndpoint: v.optional(secureUrl),
  endSessionEndpoint: v.optional(secureUrl),
  idTokenSigningAlgValuesSupported: v.optional(v.array(nameAmong(signatureAlgorithms))),
  tokenEndpointAuthMethodsSupported: v.optional(v.array(nameAmong(clientAuthentications))),
  authorizationResponseIssParameterSupported: v.optional(v.boolean()),
});

/** An origin that is https, or http on loopback. */
export const originText = v.pipe(
  v.string(),
  v.check(isSecureUrl, "must be an https origin (http only on loopback: localhost, 127.0.0.1, [::1])"),
  v.check(
    (text) => [undefined, text].includes(parseUrl(text)?.origin),
    ({ input }) => `must be an origin as browsers spell it, ${new URL(input).origin}`,
  ),
);

const memberTypes = ["string", "number", "boolean", "array", "object"] as const;
const launchSettings = v.strictObject({
  needs: v.optional(v.array(bareText)),
  context: v.optional(
    v.record(
      v.pipe(v.string(), v.regex(/^[A-Za-z]\w{0,63}$/, "must be a name of letters, digits and _")),
      v.picklist(memberTypes, `must be one of ${memberTypes.join(", ")}`),
    ),
  ),
  tenants: v.optional(tenantSettings),
  frameAncestors: v.optional(v.pipe(v.array(originText), v.minLength(1))),
  styleOrigins: v.optional(v.array(originText)),
});

/** One value of a scope, as the source of a pattern: RFC 6749 section 3.3. */
export const scopeToken = "[\\x21\\x23-\\x5b\\x5d-\\x7e]+";

/** Several, separated by spaces. */
export const scopes = v.pipe(
  v.string(),
  v.regex(new RegExp(`^${scopeToken}( ${scopeToken})*$`), "must be scopes separated by single spaces"),
  isBare,
);

/** How the client proves itself, and by what. */
const proofs: Readonly<Partial<Record<ClientAuthentication, "clientSecret" | "clientKeys">>> = {
  client_secret_basic: "clientSecret",
  client_secret_post: "clientSecret",
  client_secret_jwt: "clientSecret",
  private_key_jwt: "clientKeys",
};
interface Credentials {
  readonly clientAuthentication?: ClientAuthentication | undefined;
  readonly clientSecret?: unknown;
  readonly clientKeys?: unknown;
}
/** Whether what a client is to prove itself by is there, as far as it is this member. */
export function hasProof(
  { clientAuthentication: by = "none", ...given }: Credentials,
  member: "clientSecret" | "clientKeys",
): boolean {
  return proofs[by] !== member || given[member] !== undefined;
}

export const providerEntries = {
  issuer: v.pipe(
    secureUrl,
    v.check((url) => !/[?#]/.test(url), "must have neither query nor fragment"),
  ),
  discovery: v.optional(
    v.picklist(["openid", "oauth", "smart", "none"], 'must be "openid", "oauth", "smart" or "none"'),
    "openid",
  ),
  launch: v.optional(launchSettings),
  metadata: v.optional(handMetadata, {}),
  title: v.optional(words),
  clientId: bareText,
  clientSecret: v.optional(
    v.union(
      [nonEmpty, ...secretReference.options],
      "must be a non-empty text, { env: NAME } or { file: PATH }",
    ),
  ),
  clientKeys: v.optional(
    v.union(
      [nonEmpty, ...secretReference.options],
      "must be a JWK Set as text, { env: NAME } or { file: PATH }",
    ),
  ),
  clientAuthentication: v.optional(
    v.picklist(clientAuthentications, `must be one of ${clientAuthentications.join(", ")}`),
  ),
  idTokenSignedResponseAlg: v.optional(signature),
  idTokenEncryptedResponseAlg: v.optional(keyManagement),
  userinfoSignedResponseAlg: v.optional(signature),
  userinfoEncryptedResponseAlg: v.optional(keyManagement),
  authorizationSignedResponseAlg: v.optional(signature),
  authorizationEncryptedResponseAlg: v.optional(keyManagement),
  requestObjectSigningAlg: v.optional(signature),
  responseType: v.optional(v.picklist(responseTypes, `must be one of ${responseTypes.join(", ")}`), "code"),
  responseMode: v.optional(v.picklist(responseModes, `must be one of ${responseModes.join(", ")}`)),
  dpopBoundAccessTokens: v.optional(v.boolean(), false),
  tlsClientCertificateBoundAccessTokens: v.optional(v.boolean(), false),
  securityProfile: v.optional(v.picklist(["fapi2"], 'must be "fapi2"')),
  trustedAudiences: v.optional(v.array(bareText), []),
  clientAssertionAudience: v.optional(secureUrl),
  trustedClaimsIssuers: v.optional(v.array(secureUrl), []),
  requirePushedAuthorizationRequests: v.optional(v.boolean()),
  scope: v.optional(scopes, "openid"),
  resource: v.optional(secureUrl),
  audience: v.optional(bareText),
  profile: v.optional(v.union([profileMapping, profileFunction], "must be JSON Pointers by field"), {}),
  sessionClaims: v.optional(
    v.record(v.pipe(v.string(), v.regex(/^\w{1,64}$/, "must be a name of letters, digits and _")), pointers),
    {},
  ),
  deviations: v.optional(deviations, {}),
  timeoutSeconds: v.optional(v.pipe(v.number(), v.minValue(0.05), v.maxValue(120)), 10),
};

export const missingSecret = "is missing, and by clientAuthentication the client proves itself with it";
export const missingKeys = "is missing, and private_key_jwt signs with it";
const missingByHand = 'is missing, and nothing is discovered, as discovery is "none"';
interface ByHand {
  readonly discovery: string;
  readonly metadata: { readonly [member in keyof HandMetadata]?: unknown };
}
const isByHand = ({ discovery, metadata }: ByHand, member: keyof HandMetadata): boolean =>
  discovery !== "none" || metadata[member] !== undefined;

export const providerSettings = v.pipe(
  v.strictObject(providerEntries),
  v.forward(
    v.check(
      ({ scope, deviations: declared }) => !hasIdTokens(declared) || scope.split(" ").includes("openid"),
      "must contain openid, with spaces between scopes; or deviations.noIdToken says that there are no ID tokens",
    ),
    ["scope"],
  ),
  v.forward(
    v.check((each) => hasProof(each, "clientSecret"), missingSecret),
    ["clientSecret"],
  ),
  v.forward(
    v.check((each) => hasProof(each, "clientKeys"), missingKeys),
    ["clientKeys"],
  ),
  // Where nothing is discovered, nothing will be there later either.
  v.forward(
    v.check((each) => isByHand(each, "authorizationEndpoint"), missingByHand),
    ["metadata", "authorizationEndpoint"],
  ),
  v.forward(
    v.check((each) => isByHand(each, "tokenEndpoint"), missingByHand),
    ["metadata", "tokenEndpoint"],
  ),
  v.forward(
    v.check(
      (each) =>
        isByHand(each, "jwksUri") || each.metadata.keys !== undefined || !hasIdTokens(each.deviations),
      `${missingByHand}, as are metadata.keys`,
    ),
    ["metadata", "jwksUri"],
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
  v.forward(
    v.check(
      ({ issuer, launch }) => !launch?.tenants || issuer.includes(launch.tenants.placeholder),
      "must contain the placeholder of launch.tenants",
    ),
    ["issuer"],
  ),
  v.forward(
    v.check(
      // No address has such letters (RFC 3986 section 2), and a parser would encode them without a word.
      ({ issuer, launch, deviations: { tenants = launch?.tenants } }) =>
        !/[{}<>]/.test(issuer.replace(tenants?.placeholder ?? "", "")),
      "has a placeholder that nothing fills: a name belongs there, or deviations.tenants declares it (launch.tenants of a host)",
    ),
    ["issuer"],
  ),
);

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
      received: `${what}: environment variable ${reference.env} is ${value === undefined ? "not set" : "empty"}`,
      because: "variable",
    });
  }
  // A newline at the end is the editor's, not the secret's.
  const value = tools.platform.readFile(reference.file)?.replace(/\r?\n$/, "");
  if (value !== undefined && value !== "") return new Secret(value);
  fail("provider.secret-missing", {
    received: `${what}: file ${reference.file} is ${value === undefined ? "not there, or not readable" : "empty"}`,
    because: "file",
  });
}
