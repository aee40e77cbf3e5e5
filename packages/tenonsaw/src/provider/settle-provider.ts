import type {
  ClientAuthentication,
  Deviations,
  HandMetadata,
  ProfileMapping,
  ProviderSettings,
  ResponseMode,
  ResponseType,
  ResolvedProviderSettings,
} from "./settings-types.js";
import {
  fapi2Algorithms,
  isKeyPairAlgorithm,
  isSignatureAlgorithm,
  KeySet,
  signatureAlgorithms,
  type Jwk,
} from "../jose/index.js";
import type { EngineKey, Secret, SignatureAlgorithm } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { note, type Tools } from "../trace/index.js";
import { byOwnKey, missingOwnKeys, readClientKeys } from "./client-keys.js";
import { requireNamedIssuer, requireNoLoopback } from "./check-issuer.js";
import { hasIdTokens } from "./deviations.js";
import { fetchMetadata } from "./discover.js";
import { isHost, type Host } from "./is-host.js";
import {
  parseMetadata,
  readHandMetadata,
  refuseMetadata,
  withMutualTls,
  type ProviderMetadata,
} from "./metadata.js";
import { parseSettings } from "./parse-settings.js";
import { providerSettings, resolveSecret } from "./settings.js";

/** Members of the registration that say how tokens, answers and requests are signed and encrypted. */
const registeredNames = ["userinfoSignedResponseAlg", "authorizationSignedResponseAlg", ...byOwnKey] as const;
export type Registered = Readonly<Pick<ResolvedProviderSettings, (typeof registeredNames)[number]>>;

/** A provider, resolved and ready. All of it is readonly data but the key set, which keeps itself current. */
export interface Provider {
  /** With a placeholder in it where deviations.tenants says so. */
  readonly issuer: string;
  readonly clientId: string;
  readonly clientSecret?: Secret;
  readonly clientAuthentication: ClientAuthentication;
  /** The app's own signing keys with their private parts; the first one signs. */
  readonly clientKeys?: readonly Jwk[];
  /** What client assertions are signed with, where the client proves itself by one. */
  readonly assertionKey?: EngineKey;
  /** Whether access tokens are bound to a key (RFC 9449). */
  readonly bindsTokens: boolean;
  readonly responseType: ResponseType;
  readonly responseMode: ResponseMode;
  /** What was registered about the form of tokens and answers. */
  readonly registered: Registered;
  /** Whether authorization requests are sent ahead (RFC 9126). */
  readonly pushesRequests: boolean;
  readonly scope: string;
  /** Parameters of every authorization request: resource, audience, and those of the deviations. */
  readonly authorizationParameters: Readonly<Record<string, string>>;
  readonly profile: ProfileMapping;
  readonly deviations: Deviations;
  readonly trustedAudiences: readonly string[];
  readonly clientAssertionAudience?: string;
  readonly trustedClaimsIssuers: readonly string[];
  readonly timeoutSeconds: number;
  readonly metadata: ProviderMetadata;
  /** What makes it a host that may open this app; absent where it is none. */
  readonly host?: Host;
  /** Members of the metadata where what was given by hand differs from what was discovered. */
  readonly overridden: readonly string[];
  /** Algorithms admitted for ID tokens: what the provider states and this library speaks. Empty without ID tokens. */
  readonly signatureAlgorithms: readonly SignatureAlgorithm[];
  /** Absent where there are no ID tokens. */
  readonly keys?: KeySet;
  /** In their place where ID tokens carry a MAC: the client secret (OpenID Connect Core 1.0 section 10.1). */
  readonly macKey?: EngineKey;
  readonly tools: Tools;
}

/**
 * Settles what a provider is from its settings and its metadata.
 *
 * @throws as openProvider
 */
export async function settleProvider(tools: Tools, settings: ProviderSettings): Promise<Provider> {
  const stated = parseSettings(providerSettings, settings);
  const clientKeys =
    stated.clientKeys === undefined
      ? undefined
      : readClientKeys(resolveSecret(tools, stated.clientKeys, "clientKeys"));
  const resolved =
    stated.securityProfile === undefined
      ? stated
      : (await loadPart(import("./security-profile.js"))).applySecurityProfile(stated, clientKeys ?? []);
  const { deviations, timeoutSeconds } = resolved;
  const clientSecret =
    resolved.clientSecret === undefined
      ? undefined
      : resolveSecret(tools, resolved.clientSecret, "clientSecret");
  const gathered = await gatherMetadata(tools, resolved);
  const { metadata: published, overridden, inlineKeys } = gathered;
  const isOpenId = hasIdTokens(deviations);
  const keys = inlineKeys ?? published.jwks_uri;
  const clientAuthentication = settleAuthentication(resolved, published, clientSecret !== undefined);
  // RFC 8705 section 5.
  const usesMutualTls =
    clientAuthentication.includes("tls_client_auth") || resolved.tlsClientCertificateBoundAccessTokens;
  const reached = usesMutualTls ? withMutualTls(published) : published;
  // FAPI 2.0 Security Profile 5.3.3: the answer names its issuer, whether that was promised or not.
  const metadata =
    resolved.securityProfile === undefined
      ? reached
      : { ...reached, authorization_response_iss_parameter_supported: true };
  const held = { tools, clientSecret, clientKeys };
  const assertionKey = clientAuthentication.endsWith("_jwt")
    ? await (await loadPart(import("./own-keys.js"))).prepareAssertionKey(held, clientAuthentication)
    : undefined;
  const admitted = isOpenId ? settleAlgorithms(resolved, metadata) : [];
  const macAlgorithm = admitted.find((each) => !isKeyPairAlgorithm(each));
  if (isOpenId && keys === undefined) refuseMetadata("jwks_uri", "is missing, and no keys are given by hand");
  return {
    issuer: metadata.issuer,
    clientId: resolved.clientId,
    ...(clientSecret && { clientSecret }),
    ...(clientKeys && { clientKeys }),
    ...(assertionKey && { assertionKey }),
    clientAuthentication,
    bindsTokens: resolved.dpopBoundAccessTokens,
    responseType: resolved.responseType,
    responseMode: resolved.responseMode ?? (resolved.responseType === "code" ? "query" : "fragment"),
    registered: settleRegistered(resolved, clientKeys ?? []),
    pushesRequests: settlePushing(resolved, metadata),
    scope: resolved.scope,
    authorizationParameters: {
      ...(resolved.resource !== undefined && { resource: resolved.resource }),
      ...(resolved.audience !== undefined && { audience: resolved.audience }),
      ...deviations.authorizationParameters,
    },
    profile: resolved.profile,
    deviations,
    trustedAudiences: resolved.trustedAudiences,
    ...settleAssertionAudience(resolved, metadata),
    trustedClaimsIssuers: resolved.trustedClaimsIssuers,
    timeoutSeconds,
    metadata,
    ...(isHost(resolved) && {
      host: (await loadPart(import("./host.js"))).openHost(resolved, gathered.discovered),
    }),
    overridden,
    signatureAlgorithms: admitted,
    ...(macAlgorithm && {
      macKey: await (await loadPart(import("./own-keys.js"))).prepareMacKey(held, macAlgorithm, "verify"),
    }),
    ...(isOpenId && keys !== undefined && { keys: new KeySet(tools, { keys, timeoutSeconds }) }),
    tools,
  };
}

/** Discovered, by hand, or both: what stands in the settings wins, and where it differs that is told. */
async function gatherMetadata(tools: Tools, settings: ResolvedProviderSettings) {
  const hand = readHandMetadata(settings);
  const { discovery, deviations } = settings;
  const expected = deviations.expectedIssuer ?? settings.issuer;
  const fetched = discovery === "none" ? { issuer: expected } : await fetchMetadata(tools, settings);
  const discovered =
    discovery === "smart"
      ? (await loadPart(import("./host.js"))).settleSmart(tools, settings, fetched)
      : fetched;
  const overridden = Object.keys(hand.members).filter(
    (name) =>
      discovered[name] !== undefined &&
      JSON.stringify(discovered[name]) !== JSON.stringify(hand.members[name]),
  );
  if (overridden.length > 0) note(tools, "provider", `settings win over metadata: ${overridden.join(", ")}`);
  const metadata = parseMetadata({ ...discovered, ...hand.members });
  // Where SMART names no issuer of its own, or one beside the FHIR server, `settleSmart` has seen to it.
  // Where nothing was fetched, nobody has named an issuer but the settings.
  if (discovery !== "smart" && discovery !== "none") requireNamedIssuer(tools, metadata.issuer, expected);
  requireNoLoopback(metadata.issuer, { ...metadata, ...metadata.mtls_endpoint_aliases });
  return { metadata, overridden, discovered, inlineKeys: hand.keys };
}

/** What is amiss in a member of the metadata is amiss in the settings, where they say it or nothing else does. */
const saidBy = ({ discovery, metadata }: ResolvedProviderSettings, member: keyof HandMetadata) =>
  discovery === "none" || metadata[member] !== undefined ? "by-hand" : undefined;

/** SMART App Launch 2.2, Client Authentication: Asymmetric: the assertion is for the address that it is posted to. */
function settleAssertionAudience(
  { clientAssertionAudience, discovery }: ResolvedProviderSettings,
  { token_endpoint: endpoint }: ProviderMetadata,
): Pick<Provider, "clientAssertionAudience"> {
  const audience = clientAssertionAudience ?? (discovery === "smart" ? endpoint : undefined);
  return audience === undefined ? {} : { clientAssertionAudience: audience };
}

/** What is registered, once it is sure that the app has the keys for it. */
function settleRegistered(settings: ResolvedProviderSettings, clientKeys: readonly Jwk[]): Registered {
  const findings = missingOwnKeys(settings, clientKeys);
  if (findings.length > 0) fail("provider.settings-refused", { received: "keys that are missing", findings });
  return Object.fromEntries(registeredNames.map((name) => [name, settings[name]]));
}

/** RFC 9126 section 5: where the provider requires it, or the settings do. */
function settlePushing(settings: ResolvedProviderSettings, metadata: ProviderMetadata): boolean {
  const isWanted =
    settings.requirePushedAuthorizationRequests ?? metadata.require_pushed_authorization_requests;
  if (isWanted && metadata.pushed_authorization_request_endpoint === undefined) {
    refuseMetadata(
      "pushed_authorization_request_endpoint",
      "is missing, and requests are to be sent there",
      saidBy(settings, "pushedAuthorizationRequestEndpoint"),
    );
  }
  return isWanted;
}

/** The method of the settings, or the default of OpenID Connect Core 1.0 section 9, unless the provider rules it out. */
function settleAuthentication(
  { clientAuthentication, clientKeys, deviations }: ResolvedProviderSettings,
  metadata: ProviderMetadata,
  hasSecret: boolean,
): ClientAuthentication {
  const offered = metadata.token_endpoint_auth_methods_supported;
  const usual = () => {
    if (clientKeys !== undefined) return "private_key_jwt";
    if (!hasSecret) return "none";
    const usesPost =
      offered?.includes("client_secret_post") === true && !offered.includes("client_secret_basic");
    return usesPost ? "client_secret_post" : "client_secret_basic";
  };
  const settled = clientAuthentication ?? usual();
  // Whoever has nothing to prove itself with, and does not say so in the settings, finds out at the token endpoint.
  const isOffered =
    (settled === "none" && clientAuthentication === undefined) || (offered?.includes(settled) ?? true);
  if (!isOffered && deviations.authenticationNotAdvertised !== true) {
    refuseSetting("clientAuthentication", settled, "token_endpoint_auth_methods_supported", offered);
  }
  return settled;
}

/** What the registration says, or all that the metadata lists and is spoken here. A MAC only by registration. */
function settleAlgorithms(
  settings: ResolvedProviderSettings,
  metadata: ProviderMetadata,
): readonly SignatureAlgorithm[] {
  const { idTokenSignedResponseAlg: registered, securityProfile } = settings;
  const path = "id_token_signing_alg_values_supported";
  // RFC 8414 metadata may leave them out; RS256 is what every OpenID provider signs with (Discovery 3).
  const offered = metadata[path];
  if (registered !== undefined) {
    if (offered?.includes(registered) === false)
      refuseSetting("idTokenSignedResponseAlg", registered, path, offered);
    return [registered];
  }
  const spoken =
    securityProfile === undefined ? signatureAlgorithms.filter(isKeyPairAlgorithm) : fapi2Algorithms;
  const shared = (offered ?? ["RS256"]).filter(isSignatureAlgorithm).filter((each) => spoken.includes(each));
  if (shared.length === 0)
    refuseMetadata(
      path,
      `has none of ${spoken.join(", ")}`,
      saidBy(settings, "idTokenSigningAlgValuesSupported"),
    );
  return shared;
}

/** What the settings ask for, and the metadata does not list. */
function refuseSetting(setting: string, value: string, path: string, listed: readonly string[] = []): never {
  fail("provider.metadata-refused", {
    received: `metadata whose ${path} has ${listed.map((each) => quoted(each, 60)).join(", ") || "nothing"}`,
    expected: `${value}, as ${setting} says`,
    because: "own-setting",
    ...(listed.length > 0 && {
      here: `Set \`${setting}\` to one of what the provider offers: ${listed.join(", ")}.`,
    }),
    findings: [
      { path: setting, message: `is ${value}, and the metadata lists ${listed.join(", ") || "none"}` },
    ],
  });
}
