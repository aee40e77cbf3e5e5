import * as v from "valibot";
import { bareText, isBare, providerEntries, secureUrl } from "../provider/index.js";
import type { SignatureMethod, Transmission } from "./settings-types.js";

export const signatureMethods = [
  "HMAC-SHA1",
  "HMAC-SHA256",
  "RSA-SHA1",
  "PLAINTEXT",
] as const satisfies readonly SignatureMethod[];

export const transmissions = ["header", "body", "query"] as const satisfies readonly Transmission[];

const { issuer, title, clientId, clientSecret, clientKeys, profile, sessionClaims, timeoutSeconds } =
  providerEntries;

/** Settings of a provider that speaks OAuth 1.0a (RFC 5849), which has neither metadata nor scopes. */
export const oauth1Entries = {
  protocol: v.literal("oauth1"),
  issuer,
  title,
  clientId,
  clientSecret,
  clientKeys,
  signatureMethod: v.optional(
    v.picklist(signatureMethods, `must be one of ${signatureMethods.join(", ")}`),
    "HMAC-SHA1",
  ),
  transmission: v.optional(v.picklist(transmissions, `must be one of ${transmissions.join(", ")}`), "header"),
  realm: v.optional(
    v.pipe(v.string(), v.regex(/^[\x20-\x21\x23-\x5b\x5d-\x7e]*$/, "must be without quotes"), isBare),
  ),
  temporaryCredentialsEndpoint: secureUrl,
  authorizationEndpoint: secureUrl,
  tokenEndpoint: secureUrl,
  userinfoEndpoint: v.optional(secureUrl),
  profile,
  sessionClaims,
  declinedParameter: v.optional(bareText),
  timeoutSeconds,
};

export const oauth1Settings = v.pipe(
  v.strictObject(oauth1Entries),
  v.forward(
    v.check(
      ({ signatureMethod, clientKeys: keys }) => signatureMethod !== "RSA-SHA1" || keys !== undefined,
      "is missing, and RSA-SHA1 signs with it",
    ),
    ["clientKeys"],
  ),
  v.forward(
    v.check(
      ({ signatureMethod, clientSecret: secret }) => signatureMethod === "RSA-SHA1" || secret !== undefined,
      "is missing, and the signature is made with it",
    ),
    ["clientSecret"],
  ),
);
