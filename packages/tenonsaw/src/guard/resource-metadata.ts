import { proofAlgorithms } from "./proof.js";

/** Where an API's metadata is: RFC 9728 section 3.1 puts the well-known path between host and path. */
export function metadataUrlOf(resource: string): string {
  const { origin, pathname, search } = new URL(resource);
  return `${origin}/.well-known/oauth-protected-resource${pathname === "/" ? "" : pathname}${search}`;
}

/** What an API says of itself: RFC 9728 section 2. */
export function resourceMetadata(api: {
  readonly resource: string;
  readonly name: string;
  readonly issuers: readonly string[];
  readonly scopes: readonly string[] | undefined;
  readonly takesForms: boolean;
  readonly proofRequired: boolean;
}): object {
  // Section 3.2: a list without members is left out.
  return {
    resource: api.resource,
    ...(api.issuers.length > 0 && { authorization_servers: api.issuers }),
    ...(api.scopes?.length && { scopes_supported: api.scopes }),
    bearer_methods_supported: ["header", ...(api.takesForms ? ["body"] : [])],
    resource_name: api.name,
    dpop_signing_alg_values_supported: proofAlgorithms,
    ...(api.proofRequired && { dpop_bound_access_tokens_required: true }),
  };
}
