import { isProblem, type Provider } from "tenonsaw";
import { missingCapabilities, missingScopes, neededCapabilities } from "tenonsaw/launch";
import type { ResolvedSignInSettings } from "tenonsaw/server";
import { callBare } from "./call-bare.js";
import type { Findings } from "./finding.js";

type ProviderSettings = ResolvedSignInSettings["providers"][string];

/** What the metadata promises, held against what the settings ask for. */
export function checkMetadata(findings: Findings, provider: Provider, own: ProviderSettings): void {
  const { metadata } = provider;
  const host = new URL(own.deviations.metadataUrl ?? own.issuer).host;
  const strangers = Object.entries(metadata).flatMap(([name, value]) =>
    name.endsWith("_endpoint") && typeof value === "string" && new URL(value).host !== host
      ? [`${name} at ${new URL(value).host}`]
      : [],
  );
  if (strangers.length === 0) findings.good("endpoints", `all at ${host}`);
  else findings.careful("endpoints", strangers.join(", "), "Make sure these hosts are the provider's.");
  if (provider.overridden.length === 0)
    findings.good("metadata by hand", "contradicts nothing that was discovered");
  else
    findings.careful(
      "metadata by hand",
      `differs from what was discovered: ${provider.overridden.join(", ")}`,
      "Take it out if what was discovered is right.",
    );
  const pkce = metadata.code_challenge_methods_supported;
  if (pkce === undefined)
    findings.careful(
      "PKCE",
      "not mentioned; S256 is sent anyway",
      "Ask whether it is checked.",
      "at the provider",
    );
  else if (pkce.includes("S256")) findings.good("PKCE", "S256 is offered");
  else findings.wrong("PKCE", `only ${pkce.join(", ")}`, "Offer S256.", "at the provider");
  if (metadata.authorization_response_iss_parameter_supported)
    findings.good("issuer in responses", "promised, so required");
  else
    findings.careful(
      "issuer in responses",
      "not promised; a redirect URI of its own keeps providers apart",
      "Offer RFC 9207.",
      "at the provider",
    );
  const offered = metadata.token_endpoint_auth_methods_supported ?? ["client_secret_basic"];
  const uses = provider.clientAuthentication;
  if (offered.includes(uses) || own.deviations.authenticationNotAdvertised === true)
    findings.good("client authentication", uses);
  else
    findings.careful(
      "client authentication",
      `${uses}, and the provider lists ${offered.join(", ")}`,
      "Set `clientAuthentication` to one of these.",
    );
  const binds = (what: string, setting: string, isPromised: boolean) => {
    if (isPromised) findings.good(what, "tokens are bound, and the provider says that it does so");
    else
      findings.careful(
        what,
        `${setting} is on, and the provider does not say that it binds tokens`,
        "Ask whether it does: a token that is not bound is refused, or protects less.",
        "at the provider",
      );
  };
  if (own.dpopBoundAccessTokens)
    binds("DPoP", "dpopBoundAccessTokens", metadata.dpop_signing_alg_values_supported !== undefined);
  if (own.tlsClientCertificateBoundAccessTokens)
    binds(
      "certificate binding",
      "tlsClientCertificateBoundAccessTokens",
      metadata.tls_client_certificate_bound_access_tokens,
    );
  const listed = (what: string, setting: string, used: string, all: readonly string[] | undefined) => {
    if (all === undefined) findings.skipped(what, `not listed; ${used} is used`);
    else if (all.includes(used)) findings.good(what, used);
    else
      findings.careful(
        what,
        `${used}, and the provider lists ${all.join(", ")}`,
        `Set \`${setting}\` to one of these.`,
      );
  };
  listed("response type", "responseType", provider.responseType, metadata.response_types_supported);
  listed("response mode", "responseMode", provider.responseMode, metadata.response_modes_supported);
  checkProfile(findings, provider);
  if (provider.pushesRequests) findings.good("pushed requests", "authorization requests are sent ahead");
  else if (metadata.pushed_authorization_request_endpoint === undefined)
    findings.skipped("pushed requests", "not offered");
  else findings.good("pushed requests", "offered; requirePushedAuthorizationRequests would use it");
  checkScopes(findings, provider);
  const has = (name: string, url: string | undefined, without: string) => {
    if (url === undefined) findings.careful(name, "no endpoint", without, "at the provider");
    else findings.good(name, url);
  };
  has(
    "userinfo",
    metadata.userinfo_endpoint,
    "Without it, only what is in the ID token is known of a person.",
  );
  has(
    "sign-out",
    metadata.end_session_endpoint,
    "Without it, signing out here leaves the person signed in there.",
  );
  if (metadata.backchannel_logout_supported === true)
    findings.good("back-channel logout", "offered: register the URI of tenonsaw sheet");
  else findings.skipped("back-channel logout", "not offered");
  has("revocation", metadata.revocation_endpoint, "Without it, tokens end by themselves only.");
}

/** What a host says that it can do, held against what the app needs: SMART App Launch 2.2, Capabilities. */
export function checkHost(findings: Findings, provider: Provider): void {
  const { host } = provider;
  if (!host) return;
  findings.good("host", `${host.base}, which may open this app`);
  if (!host.isSmart) return;
  const needs = [...neededCapabilities(provider, "host"), ...neededCapabilities(provider, "app")];
  const missing = new Map(missingCapabilities(host, needs).map(({ path, message }) => [path, message]));
  for (const { capability } of new Map(needs.map((need) => [need.capability, need])).values()) {
    const message = missing.get(capability);
    if (message === undefined) findings.good(`capability ${capability}`, "listed");
    else if (capability.includes("standalone"))
      findings.careful(
        `capability ${capability}`,
        message,
        "Have it switched on, or let nobody begin at the app.",
        "at the provider",
      );
    else
      findings.wrong(
        `capability ${capability}`,
        message,
        "Have it switched on and listed, or leave out what needs it.",
        "at the provider",
      );
  }
  if (provider.metadata.code_challenge_methods_supported?.includes("plain") === true)
    findings.careful("PKCE plain", "listed, and the standard forbids it", "Take it out.", "at the provider");
}

/** Name, address and picture come with scopes of their own (OpenID Connect Core 1.0 section 5.4). */
function checkProfile(findings: Findings, { scope, profile }: Provider): void {
  const asked = scope.split(" ");
  if (!asked.includes("openid") || typeof profile === "function") return;
  const missing = [
    ...(asked.includes("profile") ? [] : ["name and picture (scope profile)"]),
    ...(asked.includes("email") ? [] : ["e-mail address (scope email)"]),
  ];
  if (missing.length === 0) findings.good("profile", "name, picture and e-mail address are asked for");
  else findings.skipped("profile", `not asked for: ${missing.join(", ")}`);
}

function checkScopes(findings: Findings, { scope, metadata, host }: Provider): void {
  const supported = metadata.scopes_supported;
  const asked = scope.split(" ");
  // `patient/*.rs` is `patient/Observation.rs` as well, at a host that writes its scopes so.
  const unknown = supported === undefined ? [] : missingScopes(scope, supported.join(" "));
  if (supported === undefined)
    findings.careful(
      "scopes",
      "the provider does not list its scopes",
      "Compare `scope` with its documentation.",
    );
  else if (unknown.length > 0) {
    findings.wrong(
      "scopes",
      `not offered: ${unknown.join(" ")}; offered: ${supported.join(" ")}`,
      "Correct `scope`, or add the scope at the provider.",
    );
  } else findings.good("scopes", `all offered: ${scope}`);
  const grants = metadata.grant_types_supported;
  if (!asked.includes("offline_access")) findings.skipped("offline access", "not asked for");
  // SMART App Launch 2.2: a capability says it, and refresh tokens are none of the grant types there.
  else if (host?.isSmart === true) findings.skipped("offline access", "asked for; see permission-offline");
  else if (grants !== undefined && !grants.includes("refresh_token")) {
    findings.wrong(
      "offline access",
      `asked for, and grant types are only ${grants.join(", ")}`,
      "Allow refresh tokens.",
      "at the provider",
    );
  } else findings.good("offline access", "asked for, and refresh tokens are offered");
}

/** What else the settings ask this provider for, beside its own `scope`. */
export function checkFurtherScopes(
  findings: Findings,
  { metadata: { scopes_supported: supported } }: Provider,
  { apis, connections }: ResolvedSignInSettings,
  name: string,
): void {
  if (supported === undefined) return;
  const own = Object.entries(apis).filter(([, api]) => api.provider === name);
  const asked = [
    [`connections.${name}.scope`, connections[name]?.scope, "wrong"] as const,
    ...own.map(([api, { scope }]) => [`apis.${api}.scope`, scope, "wrong"] as const),
    // What only an app may ask for is less often listed: RFC 8414 section 2 lets a provider leave scopes out.
    ...own.map(([api, { clientScope }]) => [`apis.${api}.clientScope`, clientScope, "careful"] as const),
  ];
  for (const [setting, scope = "", verdict] of asked) {
    const unknown = missingScopes(scope, supported.join(" "));
    if (unknown.length > 0)
      findings[verdict](
        setting,
        `not offered: ${unknown.join(" ")}; offered: ${supported.join(" ")}`,
        "Correct it, or add the scope at the provider.",
      );
  }
}

/** Whether something answers where it is asked who has signed in. */
export async function checkUserinfo(findings: Findings, { metadata, tools }: Provider): Promise<void> {
  const url = metadata.userinfo_endpoint;
  if (url === undefined) return;
  try {
    const { answer, looked } = await callBare(tools.platform, url);
    if ([404, 410].includes(answer.status))
      findings.wrong(
        "userinfo endpoint",
        looked,
        "Correct `metadata.userinfoEndpoint`, where it was set by hand: there is nothing at this address.",
      );
    else findings.good("userinfo endpoint", looked);
  } catch (error) {
    if (!isProblem(error)) throw error;
    findings.untold("userinfo endpoint", error.problem.received ?? "", "Try a sign-in: tenonsaw try.");
  }
}

/** Whether there is a key to verify ID tokens with, and whether the two clocks agree. */
export async function checkKeySet(
  findings: Findings,
  { keys, signatureAlgorithms, metadata, overridden, tools, timeoutSeconds }: Provider,
): Promise<void> {
  if (!keys) {
    findings.skipped("key set", "no ID tokens here");
    return;
  }
  findings.good("algorithms", signatureAlgorithms.join(", "));
  if (metadata.jwks_uri === undefined) {
    findings.good("key set", "given by hand");
    return;
  }
  try {
    const answer = await tools.platform.fetch(metadata.jwks_uri, {
      signal: tools.platform.deadline(timeoutSeconds),
      redirect: "manual",
    });
    const { keys: published } = (await answer.json()) as {
      keys: { use?: string; kty: string; d?: string }[];
    };
    const usable = published.filter(
      ({ use, kty }) => (use ?? "sig") === "sig" && ["RSA", "EC", "OKP"].includes(kty),
    );
    if (published.some(({ d }) => d !== undefined))
      findings.wrong("key set", "a private key is published", "Replace it at once.", "at the provider");
    else if (usable.length === 0)
      findings.wrong(
        "key set",
        `${published.length} keys, none to sign with`,
        "Publish one.",
        "at the provider",
      );
    else findings.good("key set", `${usable.length} of ${published.length} keys sign`);
    checkClock(findings, answer.headers.get("date"), tools.platform.now());
  } catch {
    const looked = `${metadata.jwks_uri} does not answer with keys`;
    if (overridden.includes("jwks_uri"))
      findings.wrong("key set", looked, "Correct `metadata.jwksUri`, which is given by hand.");
    else findings.wrong("key set", looked, "Publish the key set.", "at the provider");
  }
}

function checkClock(findings: Findings, date: string | null, now: number): void {
  const difference = date === null ? Number.NaN : Math.round(now - Date.parse(date) / 1000);
  if (Number.isNaN(difference)) findings.skipped("clock", "the provider does not tell the time");
  else if (Math.abs(difference) <= 5) findings.good("clock", "both within 5 s");
  else {
    const text = `this machine is ${Math.abs(difference)} s ${difference > 0 ? "ahead of" : "behind"} the provider`;
    const isBad = Math.abs(difference) > 60;
    (isBad ? findings.wrong : findings.careful)(
      "clock",
      text,
      "Set this machine's clock; ID tokens are refused beyond 60 s.",
    );
  }
}
