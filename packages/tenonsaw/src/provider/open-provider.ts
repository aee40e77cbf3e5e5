import { isSignatureAlgorithm, KeySet, signatureAlgorithms } from "../jose/index.js";
import type { Secret, SignatureAlgorithm } from "../platform/index.js";
import { fail } from "../problem/index.js";
import { createTools, type Tools } from "../trace/index.js";
import { discover } from "./discover.js";
import type { ProviderMetadata } from "./metadata.js";
import { parseSettings } from "./parse-settings.js";
import {
  providerSettings,
  resolveSecret,
  type ClientAuthentication,
  type ProviderSettings,
  type ResolvedProviderSettings,
} from "./settings.js";

/** A provider, resolved and ready. All of it is readonly data but the key set, which keeps itself current. */
export interface Provider {
  readonly issuer: string;
  readonly clientId: string;
  readonly clientSecret?: Secret;
  readonly clientAuthentication: ClientAuthentication;
  readonly scope: string;
  readonly timeoutSeconds: number;
  readonly metadata: ProviderMetadata;
  /** Algorithms admitted for ID tokens: what the provider states and this library speaks. */
  readonly signatureAlgorithms: readonly SignatureAlgorithm[];
  readonly keys: KeySet;
  readonly tools: Tools;
}

/**
 * Reads settings, fetches the issuer's metadata and settles what both sides speak.
 *
 * @throws provider.settings-refused, provider.secret-missing, provider.metadata-not-found,
 *   provider.metadata-refused, provider.issuer-mismatch, platform.*
 */
export async function openProvider(
  settings: ProviderSettings,
  parts: Partial<Tools> = {},
): Promise<Provider> {
  const tools = createTools(parts);
  const resolved = parseSettings(providerSettings, settings);
  const { clientSecret, ...client } = settleClient(tools, resolved);
  const metadata = await discover(tools, resolved.issuer, resolved.timeoutSeconds);
  return {
    issuer: metadata.issuer,
    clientId: resolved.clientId,
    ...(clientSecret && { clientSecret }),
    clientAuthentication:
      client.clientAuthentication ?? authenticationBy(metadata, clientSecret !== undefined),
    scope: resolved.scope,
    timeoutSeconds: resolved.timeoutSeconds,
    metadata,
    signatureAlgorithms: sharedAlgorithms(metadata),
    keys: new KeySet(tools, { url: metadata.jwks_uri, timeoutSeconds: resolved.timeoutSeconds }),
    tools,
  };
}

function settleClient(tools: Tools, settings: ResolvedProviderSettings) {
  const { clientAuthentication } = settings;
  const clientSecret =
    settings.clientSecret === undefined
      ? undefined
      : resolveSecret(tools, settings.clientSecret, "clientSecret");
  if (clientAuthentication?.startsWith("client_secret") && !clientSecret) {
    fail("provider.settings-refused", {
      received: `clientAuthentication ${clientAuthentication} and no clientSecret`,
      findings: [{ path: "clientSecret", message: `is missing, and ${clientAuthentication} needs it` }],
    });
  }
  return { clientSecret, clientAuthentication };
}

/** The method for this client: the default of OpenID Connect Core 1.0 section 9, unless the provider rules it out. */
function authenticationBy(metadata: ProviderMetadata, hasSecret: boolean): ClientAuthentication {
  if (!hasSecret) return "none";
  const offered = metadata.token_endpoint_auth_methods_supported ?? ["client_secret_basic"];
  const usesPost = !offered.includes("client_secret_basic") && offered.includes("client_secret_post");
  return usesPost ? "client_secret_post" : "client_secret_basic";
}

function sharedAlgorithms(metadata: ProviderMetadata): readonly SignatureAlgorithm[] {
  const offered = metadata.id_token_signing_alg_values_supported;
  const shared = offered.filter(isSignatureAlgorithm);
  if (shared.length === 0) {
    fail("provider.metadata-refused", {
      received: "no signature algorithm in common",
      findings: [
        {
          path: "id_token_signing_alg_values_supported",
          message: `has none of ${signatureAlgorithms.join(", ")}`,
        },
      ],
    });
  }
  return shared;
}
