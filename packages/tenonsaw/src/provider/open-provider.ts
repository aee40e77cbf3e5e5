import { isSignatureAlgorithm, KeySet, signatureAlgorithms } from "../jose/index.js";
import type { Secret, SignatureAlgorithm } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { check, createTools, note, type Tools } from "../trace/index.js";
import type { Deviations } from "./deviations.js";
import { fetchMetadata } from "./discover.js";
import { parseMetadata, readHandMetadata, type ProviderMetadata } from "./metadata.js";
import { parseSettings } from "./parse-settings.js";
import {
  providerSettings,
  resolveSecret,
  type ClientAuthentication,
  type ProfileMapping,
  type ProviderSettings,
  type ResolvedProviderSettings,
} from "./settings.js";

/** A provider, resolved and ready. All of it is readonly data but the key set, which keeps itself current. */
export interface Provider {
  /** With a placeholder in it where deviations.tenants says so. */
  readonly issuer: string;
  readonly clientId: string;
  readonly clientSecret?: Secret;
  readonly clientAuthentication: ClientAuthentication;
  readonly scope: string;
  /** Parameters of every authorization request: resource, audience, and those of the deviations. */
  readonly authorizationParameters: Readonly<Record<string, string>>;
  readonly profile: ProfileMapping;
  readonly deviations: Deviations;
  readonly timeoutSeconds: number;
  readonly metadata: ProviderMetadata;
  /** Members of the metadata where what was given by hand differs from what was discovered. */
  readonly overridden: readonly string[];
  /** Algorithms admitted for ID tokens: what the provider states and this library speaks. Empty without ID tokens. */
  readonly signatureAlgorithms: readonly SignatureAlgorithm[];
  /** Absent where there are no ID tokens. */
  readonly keys?: KeySet;
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
  const { deviations, timeoutSeconds } = resolved;
  const clientSecret = settleSecret(tools, resolved);
  const { metadata, overridden, inlineKeys } = await gatherMetadata(tools, resolved);
  const hasIdTokens = !(deviations.noIdToken ?? deviations.identityInTokenAnswer ?? false);
  const keys = inlineKeys ?? metadata.jwks_uri;
  if (hasIdTokens && keys === undefined)
    refuseMetadata("jwks_uri", "is missing, and no keys are given by hand");
  return {
    issuer: metadata.issuer,
    clientId: resolved.clientId,
    ...(clientSecret && { clientSecret }),
    clientAuthentication: settleAuthentication(resolved, metadata, clientSecret !== undefined),
    scope: resolved.scope,
    authorizationParameters: {
      ...(resolved.resource !== undefined && { resource: resolved.resource }),
      ...(resolved.audience !== undefined && { audience: resolved.audience }),
      ...deviations.authorizationParameters,
    },
    profile: resolved.profile,
    deviations,
    timeoutSeconds,
    metadata,
    overridden,
    signatureAlgorithms: hasIdTokens ? sharedAlgorithms(metadata) : [],
    ...(hasIdTokens && keys !== undefined && { keys: new KeySet(tools, { keys, timeoutSeconds }) }),
    tools,
  };
}

/** Discovered, by hand, or both: what stands in the settings wins, and where it differs that is told. */
async function gatherMetadata(tools: Tools, settings: ResolvedProviderSettings) {
  const hand = readHandMetadata(settings);
  const expected = settings.deviations.expectedIssuer ?? settings.issuer;
  const discovered =
    settings.discovery === "none" ? { issuer: expected } : await fetchMetadata(tools, settings);
  const overridden = Object.keys(hand.members).filter(
    (name) =>
      discovered[name] !== undefined &&
      JSON.stringify(discovered[name]) !== JSON.stringify(hand.members[name]),
  );
  if (overridden.length > 0) note(tools, "provider", `settings win over metadata: ${overridden.join(", ")}`);
  const metadata = parseMetadata({ ...discovered, ...hand.members });
  // Discovery 4.3, RFC 8414 3.3: the issuer that was asked, compared as text: no case folding, no slash forgiven.
  check(tools, "provider.issuer-mismatch", metadata.issuer === expected, () => ({
    received: quoted(metadata.issuer),
    expected: quoted(expected),
  }));
  return { metadata, overridden, inlineKeys: hand.keys };
}

function settleSecret(tools: Tools, settings: ResolvedProviderSettings): Secret | undefined {
  const { clientAuthentication, clientSecret } = settings;
  if (clientSecret !== undefined) return resolveSecret(tools, clientSecret, "clientSecret");
  if (clientAuthentication === undefined || clientAuthentication === "none") return undefined;
  fail("provider.settings-refused", {
    received: `clientAuthentication ${clientAuthentication} and no clientSecret`,
    findings: [{ path: "clientSecret", message: `is missing, and ${clientAuthentication} needs it` }],
  });
}

/** The method of the settings, or the default of OpenID Connect Core 1.0 section 9, unless the provider rules it out. */
function settleAuthentication(
  { clientAuthentication, deviations }: ResolvedProviderSettings,
  metadata: ProviderMetadata,
  hasSecret: boolean,
): ClientAuthentication {
  const offered = metadata.token_endpoint_auth_methods_supported;
  if (clientAuthentication !== undefined) {
    const isOffered = offered?.includes(clientAuthentication) ?? true;
    if (!isOffered && deviations.authenticationNotAdvertised !== true) {
      refuseMetadata(
        "token_endpoint_auth_methods_supported",
        `does not list ${clientAuthentication}, only ${offered?.join(", ") ?? ""}`,
      );
    }
    return clientAuthentication;
  }
  if (!hasSecret) return "none";
  const usesPost =
    offered?.includes("client_secret_post") === true && !offered.includes("client_secret_basic");
  return usesPost ? "client_secret_post" : "client_secret_basic";
}

function sharedAlgorithms(metadata: ProviderMetadata): readonly SignatureAlgorithm[] {
  // RFC 8414 metadata may leave them out; RS256 is what every OpenID provider signs with (Discovery 3).
  const offered = metadata.id_token_signing_alg_values_supported ?? ["RS256"];
  const shared = offered.filter(isSignatureAlgorithm);
  if (shared.length === 0) {
    refuseMetadata("id_token_signing_alg_values_supported", `has none of ${signatureAlgorithms.join(", ")}`);
  }
  return shared;
}

function refuseMetadata(path: string, message: string): never {
  fail("provider.metadata-refused", {
    received: `metadata whose ${path} ${message}`,
    findings: [{ path, message }],
  });
}
