import { issuerOf, type QuaysideState } from "./state.js";

export const scopes: Readonly<Record<string, string>> = {
  openid: "Know that it is you",
  profile: "See your name and picture",
  email: "See your e-mail address",
  offline_access: "Stay connected while you are away",
  "tides.read": "Read tides in Tidebook for you",
  "slots.write": "Book boat slots in Tidebook for you",
  "cranes.operate": "Operate cranes for your organisation",
};

export const responseTypes = [
  "code",
  "code id_token",
  "code token",
  "code id_token token",
  "id_token",
  "id_token token",
];
export const responseModes = ["query", "fragment", "form_post", "query.jwt", "fragment.jwt", "form_post.jwt"];
/** Ways of proving who one is, made up like everything else here. */
export const authenticationClasses = ["urn:quayside:one-factor", "urn:quayside:two-factor"];

export const deviceGrantType = "urn:ietf:params:oauth:grant-type:device_code";
export const exchangeGrantType = "urn:ietf:params:oauth:grant-type:token-exchange";
export const grantTypes = [
  "authorization_code",
  "refresh_token",
  "client_credentials",
  deviceGrantType,
  exchangeGrantType,
];
export const authenticationMethods = [
  "client_secret_basic",
  "client_secret_post",
  "client_secret_jwt",
  "private_key_jwt",
  "none",
];

/** OpenID Connect Discovery 1.0 section 3, RFC 8414 section 2, RFC 9207 section 3. */
export function metadata(state: QuaysideState) {
  const { issuer, keys, secureOrigin } = state;
  return {
    // RFC 8705 sections 3.3 and 5.
    ...(secureOrigin !== undefined && {
      tls_client_certificate_bound_access_tokens: true,
      mtls_endpoint_aliases: {
        token_endpoint: `${secureOrigin}/token`,
        userinfo_endpoint: `${secureOrigin}/userinfo`,
        revocation_endpoint: `${secureOrigin}/revoke`,
        pushed_authorization_request_endpoint: `${secureOrigin}/push`,
        device_authorization_endpoint: `${secureOrigin}/device-authorization`,
      },
    }),
    issuer: issuerOf(state),
    authorization_endpoint: `${issuer}/authorize`,
    token_endpoint: `${issuer}/token`,
    userinfo_endpoint: `${issuer}/userinfo`,
    revocation_endpoint: `${issuer}/revoke`,
    introspection_endpoint: `${issuer}/introspect`,
    practice_token_endpoint: `${issuer}/practice/tokens`,
    end_session_endpoint: `${issuer}/end-session`,
    backchannel_logout_supported: true,
    backchannel_logout_session_supported: true,
    frontchannel_logout_supported: true,
    frontchannel_logout_session_supported: true,
    dpop_signing_alg_values_supported: ["ES256", "EdDSA", "PS256"],
    registration_endpoint: `${issuer}/register`,
    pushed_authorization_request_endpoint: `${issuer}/push`,
    device_authorization_endpoint: `${issuer}/device-authorization`,
    jwks_uri: `${issuer}/keys`,
    // And what an app may ask for without a person.
    scopes_supported: [...Object.keys(scopes), "slipway.status"],
    response_types_supported: responseTypes,
    response_modes_supported: responseModes,
    acr_values_supported: authenticationClasses,
    grant_types_supported: grantTypes,
    subject_types_supported: ["public"],
    id_token_signing_alg_values_supported: [keys.algorithm],
    token_endpoint_auth_methods_supported: [
      ...authenticationMethods,
      ...(secureOrigin === undefined ? [] : ["tls_client_auth", "self_signed_tls_client_auth"]),
    ],
    token_endpoint_auth_signing_alg_values_supported: ["EdDSA", "ES256", "PS256", "RS256", "HS256"],
    claims_supported: [
      "sub",
      "iss",
      "aud",
      "exp",
      "iat",
      "auth_time",
      "nonce",
      "name",
      "email",
      "picture",
      "roles",
    ],
    code_challenge_methods_supported: ["S256"],
    authorization_response_iss_parameter_supported: true,
    prompt_values_supported: ["none", "login", "consent", "select_account"],
  };
}

/** Scopes that only an administrator may allow, by the role that makes one. */
export const administratorScopes: Readonly<Record<string, string>> = { "cranes.operate": "harbour-master" };
