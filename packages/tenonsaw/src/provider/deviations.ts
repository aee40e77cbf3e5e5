import * as v from "valibot";
import { isSecureUrl } from "../platform/index.js";
import { isBare } from "./bare-text.js";
import type { Deviations } from "./settings-types.js";

const url = v.pipe(v.string(), v.check(isSecureUrl, "must be an https URL (http only on loopback)"));
const parameterName = v.pipe(v.string(), v.regex(/^[\w.-]+$/, "must be a parameter name"));
const tenant = v.pipe(v.string(), v.regex(/^[\w.-]+$/, "must be a tenant's name: letters, digits, . _ -"));

/** Parameters that belong to the protocol: settings may neither set nor keep them. */
export const protocolParameters: readonly string[] = [
  "response_type",
  "client_id",
  "redirect_uri",
  "scope",
  "state",
  "nonce",
  "code",
  "code_challenge",
  "code_challenge_method",
  "iss",
  "error",
  "error_description",
  "error_uri",
  "client_secret",
];
const freeParameter = v.pipe(
  parameterName,
  v.check((name) => !protocolParameters.includes(name), "is a parameter of the protocol"),
);

export const tenantSettings = v.strictObject({
  placeholder: v.pipe(v.string(), v.regex(/^\{[\w-]+\}$/, "must be a placeholder such as {tenant}")),
  admitted: v.union(
    [v.literal("any"), v.pipe(v.array(tenant), v.minLength(1))],
    'must be a list of tenants or "any"',
  ),
});

export const deviations = v.strictObject({
  expectedIssuer: v.optional(url),
  tenants: v.optional(tenantSettings),
  metadataUrl: v.optional(url),
  noIdToken: v.optional(v.literal(true)),
  identityInTokenAnswer: v.optional(v.literal(true)),
  formEncodedTokenAnswer: v.optional(v.literal(true)),
  errorInside200: v.optional(v.literal(true)),
  tokenTypeAbsent: v.optional(v.literal(true)),
  scopeSeparator: v.optional(v.picklist([",", ";", "+"], 'must be ",", ";" or "+"')),
  basicNotEncoded: v.optional(v.literal(true)),
  authenticationNotAdvertised: v.optional(v.literal(true)),
  refusalWithoutCode: v.optional(v.literal(true)),
  logoutTokenWithoutExpiry: v.optional(v.literal(true)),
  keepCallbackParameters: v.optional(v.array(freeParameter)),
  authorizationParameters: v.optional(v.record(freeParameter, v.pipe(v.string(), isBare))),
});

/** Whether a provider has any, which it does unless its settings say otherwise. */
export function hasIdTokens({ noIdToken, identityInTokenAnswer }: Deviations): boolean {
  return !(noIdToken ?? identityInTokenAnswer ?? false);
}

/** What each deviation is for, and what is given up by it. docs/deviations.md is generated from here. */
export const deviationNotes: Readonly<
  Record<keyof Deviations, { readonly shape: string; readonly reason: string; readonly risk: string }>
> = {
  expectedIssuer: {
    shape: "the issuer that metadata and tokens name",
    reason: "The metadata at the provider's issuer URL names another issuer than that URL.",
    risk: "Whoever controls the metadata's address is trusted to speak for the other issuer. That issuer is still compared exactly.",
  },
  tenants: {
    shape: '{ placeholder, admitted: [names] | "any" }',
    reason: "The issuer contains the tenant's name, and the metadata has a placeholder in its place.",
    risk: 'With "any", everybody with an account at any tenant can sign in. The tenant is part of the issuer, and so of the identity: people of two tenants are never taken for one.',
  },
  metadataUrl: {
    shape: "where the metadata is",
    reason: "The provider keeps several metadata documents under one issuer, one per policy.",
    risk: "None of its own: the issuer in the document is still compared exactly.",
  },
  noIdToken: {
    shape: "true",
    reason:
      "The provider speaks plain OAuth 2.0: who it is is read from its profile endpoint, the subject by the profile mapping.",
    risk: "Nothing proves that the access token was issued to this app. It is safe here because the token comes from the token endpoint, with PKCE; never accept such a token from elsewhere.",
  },
  identityInTokenAnswer: {
    shape: "true",
    reason: "The token answer carries the person's claims, and there is no profile endpoint.",
    risk: "The same as with noIdToken.",
  },
  formEncodedTokenAnswer: {
    shape: "true",
    reason: "Token answers are form-encoded instead of JSON.",
    risk: "A page that happens to look like a form is read as an answer; it is still checked for an access token.",
  },
  errorInside200: {
    shape: "true",
    reason: "Errors of the token endpoint come with status 200.",
    risk: "None: an answer with an error is refused either way; with this, its error is named.",
  },
  tokenTypeAbsent: {
    shape: "true",
    reason: "The token answer does not say of which type the access token is.",
    risk: "A token of another type is sent as a bearer token.",
  },
  scopeSeparator: {
    shape: '"," or ";" or "+"',
    reason: "Scopes are separated by another character than a space.",
    risk: "None.",
  },
  basicNotEncoded: {
    shape: "true",
    reason: "Client ID and secret are expected in Basic as they are, not form-encoded.",
    risk: "A client ID with a colon cannot be told from its secret.",
  },
  authenticationNotAdvertised: {
    shape: "true",
    reason: "The provider takes a client authentication that its metadata does not list.",
    risk: "The secret is sent in a way the provider did not say it takes.",
  },
  refusalWithoutCode: {
    shape: "true",
    reason:
      "A refresh token that the provider does not honour any more is refused with 400 or 401 and no error code.",
    risk: "An answer like that for another reason ends connections, too: the people are asked to sign in again.",
  },
  logoutTokenWithoutExpiry: {
    shape: "true",
    reason: "The provider's notices of sign-out name no `exp`.",
    risk: "None of its own: such a notice is good for two minutes from its `iat`, and counts once.",
  },
  keepCallbackParameters: {
    shape: "[names]",
    reason:
      "The callback brings a parameter the app needs, such as the ID of the company that was connected.",
    risk: "The browser brings it, so it can be changed on the way: check it with the provider before it is relied on.",
  },
  authorizationParameters: {
    shape: "{ name: value }",
    reason: "The provider wants a parameter of its own, for example to give a refresh token.",
    risk: "None: parameters of the protocol cannot be set here.",
  },
};
