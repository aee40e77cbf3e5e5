import * as v from "valibot";
import { providerEntries, secureUrl } from "../provider/index.js";

/** RFC 5849 section 3.4; HMAC-SHA256 is the same with the longer hash. */
export const signatureMethods = ["HMAC-SHA1", "HMAC-SHA256", "RSA-SHA1", "PLAINTEXT"] as const;
export type SignatureMethod = (typeof signatureMethods)[number];

/** RFC 5849 section 3.5. */
export const transmissions = ["header", "body", "query"] as const;
export type Transmission = (typeof transmissions)[number];

const { issuer, title, clientId, clientSecret, clientKeys, profile, timeoutSeconds } = providerEntries;

/** Settings of a provider that speaks OAuth 1.0a (RFC 5849), which has neither metadata nor scopes. */
export const oauth1Entries = {
  protocol: v.literal("oauth1"),
  /** A URL that stands for the provider: people are told apart by it and their subject. */
  issuer,
  title,
  /** The identifier of the client credentials. */
  clientId,
  /** Their shared secret. */
  clientSecret,
  /** The app's own RSA key in place of a shared secret, for RSA-SHA1: a private JWK, or where it is to be found. */
  clientKeys,
  signatureMethod: v.optional(
    v.picklist(signatureMethods, `must be one of ${signatureMethods.join(", ")}`),
    "HMAC-SHA1",
  ),
  /** Where the protocol's parameters go. Without a form to put them into, `body` means `header`. */
  transmission: v.optional(v.picklist(transmissions, `must be one of ${transmissions.join(", ")}`), "header"),
  /** Of the Authorization header, where the provider asks for one. */
  realm: v.optional(
    v.pipe(v.string(), v.regex(/^[\x20-\x21\x23-\x5b\x5d-\x7e]*$/, "must be without quotes")),
  ),
  temporaryCredentialsEndpoint: secureUrl,
  authorizationEndpoint: secureUrl,
  tokenEndpoint: secureUrl,
  /** Tells who it is. Default: what comes along with the token credentials. */
  userinfoEndpoint: v.optional(secureUrl),
  /** Where in the answer each field of the profile is; `subject` has to be there. */
  profile,
  /** The callback's parameter that says that the person declined: the standard has none. */
  declinedParameter: v.optional(v.pipe(v.string(), v.minLength(1, "must not be empty"))),
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

export type OAuth1Settings = v.InferInput<typeof oauth1Settings>;
export type ResolvedOAuth1Settings = v.InferOutput<typeof oauth1Settings>;
