import * as v from "valibot";
import { isSecureUrl, Secret } from "../platform/index.js";
import { fail } from "../problem/index.js";
import type { Tools } from "../trace/index.js";

/** A URL that is https, or http on loopback. */
export const secureUrl = v.pipe(
  v.string(),
  v.check(isSecureUrl, "must be an https URL (http only on loopback: localhost, 127.0.0.1, [::1])"),
);

/** Where a secret is to be found: an environment variable. */
export const secretReference = v.strictObject({
  env: v.pipe(v.string(), v.minLength(1, "must not be empty")),
});

export const clientAuthentications = ["client_secret_basic", "client_secret_post", "none"] as const;
export type ClientAuthentication = (typeof clientAuthentications)[number];

export const providerSettings = v.strictObject({
  /** Issuer URL, from which everything else is discovered (OpenID Connect Discovery 1.0 section 4). */
  issuer: v.pipe(
    secureUrl,
    v.check((url) => !/[?#]/.test(url), "must have neither query nor fragment"),
  ),
  /** Client ID from the registration. */
  clientId: v.pipe(v.string(), v.minLength(1, "must not be empty")),
  /** Client secret: the value, or `{ env }` naming an environment variable. Leave out for a public client. */
  clientSecret: v.optional(
    v.union(
      [v.pipe(v.string(), v.minLength(1, "must not be empty")), secretReference],
      "must be a non-empty text or { env: NAME }",
    ),
  ),
  /** How the client proves itself at the token endpoint (OpenID Connect Core 1.0 section 9). Default: by metadata. */
  clientAuthentication: v.optional(
    v.picklist(clientAuthentications, `must be one of ${clientAuthentications.join(", ")}`),
  ),
  /** Scopes to ask for, separated by spaces; must contain `openid`. */
  scope: v.optional(
    v.pipe(
      v.string(),
      v.regex(
        /^[\x21\x23-\x5b\x5d-\x7e]+( [\x21\x23-\x5b\x5d-\x7e]+)*$/,
        "must be scopes separated by single spaces",
      ),
      v.check((scope) => scope.split(" ").includes("openid"), "must contain openid"),
    ),
    "openid",
  ),
  /** Deadline for each answer of this provider, in seconds. */
  timeoutSeconds: v.optional(
    v.pipe(v.number(), v.minValue(0.05, "must be at least 0.05"), v.maxValue(120, "must be at most 120")),
    10,
  ),
});

export type ProviderSettings = v.InferInput<typeof providerSettings>;
export type ResolvedProviderSettings = v.InferOutput<typeof providerSettings>;

/**
 * The secret itself, fetched from where the settings say.
 *
 * @throws provider.secret-missing
 */
export function resolveSecret(
  tools: Tools,
  reference: string | { readonly env: string },
  what: string,
): Secret {
  if (typeof reference === "string") return new Secret(reference);
  const value = tools.platform.environment(reference.env);
  if (value === undefined || value === "") {
    fail("provider.secret-missing", {
      received: `${what}: environment variable ${reference.env} is not set`,
    });
  }
  return new Secret(value);
}
