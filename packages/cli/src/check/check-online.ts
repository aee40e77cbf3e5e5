import { lookup } from "node:dns/promises";
import { connect } from "node:tls";
import { beginSignIn, isProblem, openProvider, refreshGrant, type Platform, type Provider } from "tenonsaw";
import { resolveSecret, signInRoutes, type ResolvedSignInSettings } from "tenonsaw/server";
import { createFindings, type CheckFinding, type Findings } from "./finding.js";
import { markDifference, nearestUrl } from "./difference.js";

type ProviderSettings = ResolvedSignInSettings["providers"][string];

/** Everything that a provider itself can tell. */
export async function checkOnline(
  platform: Platform,
  settings: ResolvedSignInSettings,
  name: string,
): Promise<readonly CheckFinding[]> {
  const findings = createFindings(name);
  const own = settings.providers[name];
  if (!own) return [];
  const address = new URL(own.deviations.metadataUrl ?? own.metadata.tokenEndpoint ?? own.issuer);
  if (!(await checkAddress(findings, address))) return findings.list;
  const provider = await open(findings, platform, own);
  if (!provider) return findings.list;
  checkMetadata(findings, provider, own);
  await checkKeySet(findings, provider);
  await checkClient(findings, platform, provider, own);
  await checkRedirectUri(findings, platform, provider, signInRoutes(settings).callback(name));
  return findings.list;
}

async function checkAddress(findings: Findings, { hostname, protocol, port }: URL): Promise<boolean> {
  const host = hostname.replace(/^\[|\]$/g, "");
  try {
    const { address } = await lookup(host);
    findings.good("name resolution", `${host} is ${address}`);
  } catch {
    findings.wrong(
      "name resolution",
      `${host} has no address`,
      "Check the host name of `issuer`, and this machine's name resolution.",
    );
    return false;
  }
  if (protocol === "http:") {
    findings.good("TLS", "plain http, on loopback only");
    return true;
  }
  const { daysLeft, reason } = await inspectCertificate(host, Number(port) || 443);
  if (reason !== undefined)
    findings.wrong("TLS", reason, "Renew or complete the certificate chain.", "at the provider");
  else if (daysLeft < 14)
    findings.careful("TLS", `the certificate ends in ${daysLeft} days`, "Renew it.", "at the provider");
  else findings.good("TLS", `the certificate is good for ${daysLeft} days`);
  return reason === undefined;
}

function inspectCertificate(host: string, port: number): Promise<{ daysLeft: number; reason?: string }> {
  return new Promise((resolve) => {
    const socket = connect({ host, port, servername: host, timeout: 8000 }, () => {
      const daysLeft = Math.floor(
        (Date.parse(socket.getPeerCertificate().valid_to) - Date.now()) / 86_400_000,
      );
      socket.end();
      resolve({ daysLeft });
    });
    socket.on("timeout", () => socket.destroy(new Error("no answer within 8 s")));
    socket.on("error", (error: Error) => resolve({ daysLeft: 0, reason: error.message }));
  });
}

async function open(
  findings: Findings,
  platform: Platform,
  own: ProviderSettings,
): Promise<Provider | undefined> {
  try {
    // A missing secret has been found before; what the provider says of itself can be read all the same.
    const provider = await openProvider(
      { ...own, ...(hasSecret(platform, own) ? {} : { clientSecret: "missing" }) },
      { platform },
    );
    findings.good("metadata", own.discovery === "none" ? "given by hand" : "found and well-formed");
    findings.good("issuer", `${provider.issuer}, exactly as in the settings`);
    return provider;
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { code, title, expected, received, here, atProvider, findings: parts = [] } = error.problem;
    const detail = parts.map(({ path, message }) => `${path} ${message}`).join("; ");
    const difference =
      code === "provider.issuer-mismatch"
        ? `\n${markDifference(unquote(expected), unquote(received ?? ""))}`
        : "";
    const looked = `${title}: expected ${expected}, received ${received ?? "nothing"}${detail === "" ? "" : ` (${detail})`}${difference}`;
    findings.wrong(
      code === "provider.issuer-mismatch" ? "issuer" : "metadata",
      looked,
      here ?? atProvider ?? "",
      here === undefined ? "at the provider" : "here",
    );
    return undefined;
  }
}

function checkMetadata(findings: Findings, provider: Provider, own: ProviderSettings): void {
  const { metadata } = provider;
  const host = new URL(own.deviations.metadataUrl ?? own.issuer).host;
  const strangers = Object.entries(metadata)
    .filter(
      ([name, value]) =>
        name.endsWith("_endpoint") && typeof value === "string" && new URL(value).host !== host,
    )
    .map(([name, value]) => `${name} at ${new URL(String(value)).host}`);
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
  has("revocation", metadata.revocation_endpoint, "Without it, tokens end by themselves only.");
}

function checkScopes(findings: Findings, { scope, metadata }: Provider): void {
  const supported = metadata.scopes_supported;
  const asked = scope.split(" ");
  const unknown = supported === undefined ? [] : asked.filter((each) => !supported.includes(each));
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
  else if (grants !== undefined && !grants.includes("refresh_token")) {
    findings.wrong(
      "offline access",
      `asked for, and grant types are only ${grants.join(", ")}`,
      "Allow refresh tokens.",
      "at the provider",
    );
  } else findings.good("offline access", "asked for, and refresh tokens are offered");
}

async function checkKeySet(
  findings: Findings,
  { keys, signatureAlgorithms, metadata, tools, timeoutSeconds }: Provider,
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
    findings.wrong(
      "key set",
      `${metadata.jwks_uri} does not answer with keys`,
      "Publish the key set.",
      "at the provider",
    );
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

/** A code that cannot exist: who knows the client says so of the code, who does not says so of the client. */
async function checkClient(
  findings: Findings,
  platform: Platform,
  provider: Provider,
  own: ProviderSettings,
): Promise<void> {
  if (!hasSecret(platform, own)) {
    findings.skipped("client", "there is no secret to try");
    return;
  }
  const grant = {
    issuer: provider.issuer,
    clientId: provider.clientId,
    accessToken: "x",
    scope: "",
    obtainedAt: 0,
    refreshToken: "made-up-for-a-check",
  };
  try {
    await refreshGrant(provider, grant);
    findings.careful(
      "client",
      "the provider took a made-up refresh token",
      "Ask the provider what that means.",
      "at the provider",
    );
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { code, received = "" } = error.problem;
    if (code === "grant.client-refused") {
      findings.wrong(
        "client",
        `client ID or secret is not accepted: ${received}`,
        "Compare clientId and the secret with the console, for this environment.",
      );
    } else if (code === "grant.refresh-refused") findings.good("client", "client ID and secret are accepted");
    else findings.careful("client", `the answer does not tell: ${received}`, "Try a sign-in: tenonsaw try.");
  }
}

/** Asks for a sign-in without a person. An answer at the redirect URI, even an error, means that it is registered. */
async function checkRedirectUri(
  findings: Findings,
  platform: Platform,
  provider: Provider,
  redirectUri: string,
): Promise<void> {
  const { url } = await beginSignIn(provider, { redirectUri });
  const request = new URL(url);
  request.searchParams.set("prompt", "none");
  const answer = await platform
    .fetch(request.href, { redirect: "manual", signal: platform.deadline(provider.timeoutSeconds) })
    .catch(() => undefined);
  const location = answer?.headers.get("location");
  if (location?.startsWith(redirectUri) === true) {
    const error = new URL(location).searchParams.get("error");
    if (error === "invalid_scope" || error === "unauthorized_client" || error === "invalid_request") {
      findings.wrong(
        "authorization request",
        `refused: ${error}, ${new URL(location).searchParams.get("error_description") ?? ""}`,
        "Compare scope and registration.",
      );
    } else findings.good("authorization request", `${redirectUri} is registered`);
    return;
  }
  const page = (await answer?.text().catch(() => "")) ?? "";
  if (answer === undefined || answer.status >= 500)
    findings.careful("authorization request", "no answer", "Try again.", "at the provider");
  else if (answer.status >= 400) {
    const registered = nearestUrl(page, redirectUri);
    const difference =
      registered === undefined || registered === redirectUri
        ? ""
        : `\n${markDifference(registered, redirectUri, "registered", "sent")}`;
    if (/redirect/i.test(page)) {
      const looked = `the redirect URI is refused: ${redirectUri}${difference}`;
      const remedy = "Register exactly this URI, or correct origin and basePath.";
      findings.wrong("authorization request", looked, remedy, "at the provider");
    } else if (/client/i.test(page)) {
      const looked = `the client is not known: ${provider.clientId}`;
      findings.wrong(
        "authorization request",
        looked,
        "Compare clientId with the console, for this environment.",
      );
    } else {
      const looked = `refused with status ${answer.status}`;
      findings.wrong("authorization request", looked, "Compare the registration.", "at the provider");
    }
  } else
    findings.careful(
      "authorization request",
      "the provider shows a page instead of answering",
      "Try a sign-in: tenonsaw try.",
    );
}

/** False only where there should be a secret and is none. */
function hasSecret(platform: Platform, { clientSecret }: ProviderSettings): boolean {
  if (clientSecret === undefined) return true;
  try {
    resolveSecret({ platform }, clientSecret, "clientSecret");
    return true;
  } catch {
    return false;
  }
}

function unquote(text: string): string {
  return text.replace(/^"|"$/g, "");
}
