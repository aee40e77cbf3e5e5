import type { ResolvedProviderSettings } from "./settings-types.js";
import * as v from "valibot";
import type { Jwk } from "../jose/index.js";
import { isUrl, isSecureUrl } from "../platform/index.js";
import { fail } from "../problem/index.js";

export const directEndpoint = v.pipe(v.string(), v.check(isSecureUrl, "not an https URL"));
const names = v.array(v.string());
/** The endpoints that a client itself asks, which may have an address of their own for mutual TLS (RFC 8705 section 5). */
const directEndpoints = {
  token_endpoint: v.optional(directEndpoint),
  userinfo_endpoint: v.optional(directEndpoint),
  revocation_endpoint: v.optional(directEndpoint),
  introspection_endpoint: v.optional(directEndpoint),
  registration_endpoint: v.optional(directEndpoint),
  device_authorization_endpoint: v.optional(directEndpoint),
  pushed_authorization_request_endpoint: v.optional(directEndpoint),
};

/** The members of provider metadata that are used here (OpenID Connect Discovery 1.0 section 3, RFC 8414, 8628, 9126, 9207). */
const metadataSchema = v.object({
  issuer: v.pipe(
    v.string(),
    v.check((text) => isUrl(text), "not a URL"),
  ),
  authorization_endpoint: directEndpoint,
  ...directEndpoints,
  token_endpoint: directEndpoint,
  revocation_endpoint_auth_methods_supported: v.optional(names),
  jwks_uri: v.optional(directEndpoint),
  end_session_endpoint: v.optional(directEndpoint),
  mtls_endpoint_aliases: v.optional(v.object(directEndpoints)),
  tls_client_certificate_bound_access_tokens: v.optional(v.boolean(), false),
  require_pushed_authorization_requests: v.optional(v.boolean(), false),
  backchannel_logout_supported: v.optional(v.boolean()),
  frontchannel_logout_supported: v.optional(v.boolean()),
  id_token_signing_alg_values_supported: v.optional(names),
  dpop_signing_alg_values_supported: v.optional(names),
  token_endpoint_auth_methods_supported: v.optional(names),
  scopes_supported: v.optional(names),
  response_types_supported: v.optional(names),
  response_modes_supported: v.optional(names),
  grant_types_supported: v.optional(names),
  code_challenge_methods_supported: v.optional(names),
  authorization_response_iss_parameter_supported: v.optional(v.boolean(), false),
});

/** The endpoints that a client itself asks. */
interface DirectEndpoints {
  readonly token_endpoint?: string | undefined;
  readonly userinfo_endpoint?: string | undefined;
  readonly revocation_endpoint?: string | undefined;
  readonly introspection_endpoint?: string | undefined;
  readonly registration_endpoint?: string | undefined;
  readonly device_authorization_endpoint?: string | undefined;
  readonly pushed_authorization_request_endpoint?: string | undefined;
}

/** What a provider says of itself, in the standards' names (RFC 8414 section 2): the members that are used here. */
export interface ProviderMetadata extends DirectEndpoints {
  readonly issuer: string;
  readonly authorization_endpoint: string;
  readonly token_endpoint: string;
  readonly revocation_endpoint_auth_methods_supported?: readonly string[] | undefined;
  readonly jwks_uri?: string | undefined;
  readonly end_session_endpoint?: string | undefined;
  readonly mtls_endpoint_aliases?: DirectEndpoints | undefined;
  readonly tls_client_certificate_bound_access_tokens: boolean;
  readonly require_pushed_authorization_requests: boolean;
  readonly backchannel_logout_supported?: boolean | undefined;
  readonly frontchannel_logout_supported?: boolean | undefined;
  readonly id_token_signing_alg_values_supported?: readonly string[] | undefined;
  readonly dpop_signing_alg_values_supported?: readonly string[] | undefined;
  readonly token_endpoint_auth_methods_supported?: readonly string[] | undefined;
  readonly scopes_supported?: readonly string[] | undefined;
  readonly response_types_supported?: readonly string[] | undefined;
  readonly response_modes_supported?: readonly string[] | undefined;
  readonly grant_types_supported?: readonly string[] | undefined;
  readonly code_challenge_methods_supported?: readonly string[] | undefined;
  readonly authorization_response_iss_parameter_supported: boolean;
}

/** @throws provider.metadata-refused naming every missing or malformed member */
export function parseMetadata(metadata: unknown): ProviderMetadata {
  return readMembersBy(metadataSchema, metadata);
}

/**
 * The members of metadata that somebody uses, by their schema.
 *
 * @throws provider.metadata-refused naming every missing or malformed member
 */
export function readMembersBy<Schema extends v.GenericSchema>(
  schema: Schema,
  metadata: unknown,
): v.InferOutput<Schema> {
  const result = v.safeParse(schema, metadata);
  if (result.success) return result.output;
  return fail("provider.metadata-refused", {
    received: "metadata with mistakes",
    findings: result.issues.map((issue) => ({
      path: v.getDotPath(issue) ?? "(metadata)",
      message: issue.received === "undefined" ? "is missing" : issue.message,
    })),
  });
}

/** @throws provider.metadata-refused */
export function refuseMetadata(path: string, message: string, because?: "by-hand"): never {
  fail("provider.metadata-refused", {
    received: `metadata whose ${path} ${message}`,
    because,
    findings: [{ path, message }],
  });
}

/** Metadata by hand in the standard's spelling, and the keys that came with it. */
export function readHandMetadata({ metadata }: Pick<ResolvedProviderSettings, "metadata">): {
  readonly members: Readonly<Record<string, unknown>>;
  readonly keys?: readonly Jwk[];
} {
  const { keys, ...rest } = metadata;
  const members = Object.entries(rest).map(([name, value]) => [
    name.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`),
    value,
  ]);
  return { members: Object.fromEntries(members) as Record<string, unknown>, ...(keys && { keys }) };
}

/** With the addresses for mutual TLS in place of the usual ones, as far as there are such. */
export function withMutualTls(metadata: ProviderMetadata): ProviderMetadata {
  const aliases = Object.entries(metadata.mtls_endpoint_aliases ?? {}).filter(([, url]) => url !== undefined);
  return { ...metadata, ...(Object.fromEntries(aliases) as Partial<ProviderMetadata>) };
}
