import type { ResolvedProviderSettings } from "./settings-types.js";
import { fapi2Algorithms, isSignatureAlgorithm, type Jwk } from "../jose/index.js";
import { fail, type ProblemFinding } from "../problem/index.js";

const authentications = ["private_key_jwt", "tls_client_auth", "self_signed_tls_client_auth"] as const;

/** Deviations that would take back what the profile promises. */
const incompatible = [
  "expectedIssuer",
  "tenants",
  "metadataUrl",
  "authenticationNotAdvertised",
  "identityInTokenAnswer",
] as const;

/**
 * The FAPI 2.0 Security Profile as one preset (sections 5.2, 5.3.3 and 5.4): what it asks of a client is set, and what
 * the settings say against it is refused. What it asks beyond that is done here for every provider: PKCE with S256, the
 * code flow, access tokens never in an address, TLS, the issuer compared as text, client assertions for the issuer.
 *
 * @throws provider.settings-refused
 */
export function applySecurityProfile(
  settings: ResolvedProviderSettings,
  clientKeys: readonly Jwk[],
): ResolvedProviderSettings {
  const findings = findContradictions(settings, clientKeys);
  if (findings.length > 0)
    fail("provider.settings-refused", { received: "settings against FAPI 2.0", findings });
  const byCertificate = settings.clientAuthentication?.includes("tls_client_auth") === true;
  const bindsByCertificate =
    settings.tlsClientCertificateBoundAccessTokens || (byCertificate && !settings.dpopBoundAccessTokens);
  return {
    ...settings,
    clientAuthentication: settings.clientAuthentication ?? "private_key_jwt",
    requirePushedAuthorizationRequests: true,
    tlsClientCertificateBoundAccessTokens: bindsByCertificate,
    dpopBoundAccessTokens: settings.dpopBoundAccessTokens || !bindsByCertificate,
  };
}

/** What the settings say against the profile. */
export function findContradictions(
  settings: ResolvedProviderSettings,
  clientKeys: readonly Jwk[],
): readonly ProblemFinding[] {
  const { clientAuthentication = "private_key_jwt", responseType, deviations, metadata } = settings;
  const findings: ProblemFinding[] = [];
  const refuse = (path: string, message: string) => void findings.push({ path, message });
  if (!authentications.some((each) => each === clientAuthentication))
    refuse("clientAuthentication", `must be one of ${authentications.join(", ")}`);
  if (clientAuthentication === "private_key_jwt" && clientKeys.length === 0)
    refuse("clientKeys", "is missing, and private_key_jwt needs it");
  for (const { alg, kid = "" } of clientKeys.filter((key) => isSignatureAlgorithm(key.alg))) {
    if (!fapi2Algorithms.some((each) => each === alg))
      refuse("clientKeys", `has ${kid} for ${alg ?? ""}; there is only ${fapi2Algorithms.join(", ")}`);
  }
  if (responseType !== "code") refuse("responseType", "must be code");
  if (settings.requirePushedAuthorizationRequests === false)
    refuse("requirePushedAuthorizationRequests", "must not be off");
  if (settings.discovery === "none")
    refuse("discovery", "must not be off: everything is told by the issuer's metadata");
  for (const name of Object.keys(metadata)) refuse(`metadata.${name}`, "must be discovered");
  for (const name of incompatible) {
    if (deviations[name] !== undefined) refuse(`deviations.${name}`, "must not be");
  }
  for (const name of [
    "idTokenSignedResponseAlg",
    "userinfoSignedResponseAlg",
    "authorizationSignedResponseAlg",
    "requestObjectSigningAlg",
  ] as const) {
    const alg = settings[name];
    if (alg !== undefined && !fapi2Algorithms.includes(alg))
      refuse(name, `must be one of ${fapi2Algorithms.join(", ")}`);
  }
  return findings;
}
