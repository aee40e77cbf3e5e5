import { tenantNames } from "../tenant-names.js";
import { statSync } from "node:fs";
import { deviationNotes, isProblem, readClientKeys } from "tenonsaw";
import { isHost, isMiswritten } from "tenonsaw/launch";
import { isLoopback, type Platform } from "tenonsaw/platform";
import type { ChosenSettings, ResolvedSignInSettings, SecretReference } from "tenonsaw/server";
import { originsOf, readKeyRing, resolveSecret, signInRoutes } from "tenonsaw/server";
import { createFindings, type CheckFinding, type Findings } from "./finding.js";

type Provider = ResolvedSignInSettings["providers"][string];

/** Everything that can be seen without asking anybody. */
export async function checkSettings(
  platform: Platform,
  file: string,
  chosen: ChosenSettings,
): Promise<readonly CheckFinding[]> {
  const { settings, environment, isProduction, warnings } = chosen;
  const findings = createFindings("settings");
  findings.good("settings file", `${file} is well-formed`);
  if (environment === undefined) findings.good("environment", "the settings know only one");
  else findings.good("environment", `${environment}${isProduction ? ", marked as production" : ""}`);
  for (const { path, message, place } of warnings)
    findings.careful(path, `${place ?? ""} ${message}`.trim(), "Change it there.");
  if (warnings.length === 0)
    findings.good("literal secrets", "none in the file, and nothing shared between environments");
  checkOrigin(findings, settings.origin, isProduction);
  checkProxies(findings, settings);
  checkLifetime(findings, "session lifetime", settings.sessionLifetimeSeconds);
  for (const [kind, { lifetimeSeconds }] of Object.entries(settings.sessionKinds))
    checkLifetime(findings, `session kind ${kind}`, lifetimeSeconds);

  await checkSealingKeys(findings, platform, settings.keys);
  checkPermissions(findings, "sealing key file", settings.keys);
  for (const [name, api] of Object.entries(settings.apis)) {
    checkApi(findings, name, api, settings.providers[api.provider]?.scope);
  }
  if (settings.development)
    findings.careful("development", "problems are shown in full", "Switch it off where visitors come.");
  else findings.good("development", "off");
  const own = Object.entries(settings.providers).flatMap(([name, provider]) =>
    checkProvider(platform, settings, name, provider),
  );
  const oauth1 = Object.entries(settings.oauth1Providers).flatMap(([name, provider]) =>
    checkOAuth1Provider(platform, settings, name, provider),
  );
  return [...findings.list, ...own, ...oauth1];
}

function checkLifetime(findings: Findings, subject: string, seconds: number): void {
  const days = seconds / 86_400;
  if (days <= 30) findings.good(subject, `${Math.round(days * 100) / 100} days`);
  else findings.careful(subject, `${Math.round(days)} days`, "A lost device stays signed in that long.");
}

/** A token of an API's own is made from what was granted at the sign-in, and can be no more than that. */
function checkApi(
  findings: Findings,
  name: string,
  { provider, origin, scope }: ResolvedSignInSettings["apis"][string],
  granted = "",
): void {
  const missing = scope?.split(" ").filter((part) => !granted.split(" ").includes(part)) ?? [];
  if (missing.length === 0)
    findings.good(`API ${name}`, `takes tokens of ${provider}, sent to ${origin} only`);
  else
    findings.careful(
      `API ${name}`,
      `takes a token for ${missing.join(" ")}, which a sign-in with ${provider} does not ask for`,
      `Add it to providers.${provider}.scope, or ask for it where it is needed.`,
    );
}

function checkOrigin(findings: Findings, origin: string, isProduction: boolean): void {
  const { hostname, protocol } = new URL(origin);
  if (isProduction && isLoopback(hostname)) {
    findings.wrong(
      "origin",
      `${origin} is this machine only, and the environment is production`,
      "Put the public address into `origin`.",
    );
  } else findings.good("origin", `${origin}${protocol === "http:" ? ", http on loopback" : ""}`);
}

function checkProxies(findings: Findings, { proxies }: ResolvedSignInSettings): void {
  if (!proxies) findings.good("proxies", "none named: `origin` holds for every request");
  else if (proxies.hops !== undefined)
    findings.careful(
      "proxies",
      `${proxies.hops} always, by ${proxies.header}`,
      "Make sure that nobody can reach the app past them; naming their addresses is safer.",
    );
  else findings.good("proxies", `${(proxies.addresses ?? []).join(", ")}, by ${proxies.header}`);
}

async function checkSealingKeys(
  findings: Findings,
  platform: Platform,
  keys: ResolvedSignInSettings["keys"],
): Promise<void> {
  try {
    const count = (await readKeyRing({ platform }, resolveSecret({ platform }, keys, "keys").reveal())).keys
      .size;
    findings.good(
      "sealing keys",
      count === 1 ? "one, the current one" : `${count}: the current one and ${count - 1} retired`,
    );
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { received = error.problem.title, expected } = error.problem;
    findings.wrong(
      "sealing keys",
      `${received}; expected ${expected}`,
      "Make one with: tenonsaw keys --out <file>",
    );
  }
}

function checkProvider(
  platform: Platform,
  settings: ResolvedSignInSettings,
  name: string,
  provider: Provider,
): readonly CheckFinding[] {
  const findings = createFindings(name);
  const callbacks = originsOf(settings).flatMap((origin) =>
    tenantNames(name, provider).map(signInRoutes({ ...settings, origin }).callback),
  );
  findings.good("redirect URI", callbacks.join(", "));
  checkClientSecret(findings, platform, provider);
  checkClientKeys(findings, platform, provider);
  const scopes = provider.scope.split(" ");
  for (const each of scopes.filter(isMiswritten))
    findings.wrong(
      "scope",
      `${each} is none of SMART App Launch: tenonsaw explain says what it is like`,
      "Write the rights in the order of cruds, or as read, write or *.",
    );
  if (isHost(provider)) findings.good("launch URL", signInRoutes(settings).launch);
  if (scopes.includes("offline_access")) findings.good("refresh", "scope asks for offline_access");
  else
    findings.careful(
      "refresh",
      "scope does not ask for offline_access",
      "Add it if the app calls APIs after the access token has expired.",
    );
  const declared = Object.keys(provider.deviations) as (keyof typeof deviationNotes)[];
  for (const each of declared) {
    const { risk } = deviationNotes[each];
    const admitted = each === "tenants" ? provider.deviations.tenants?.admitted : undefined;
    if (Array.isArray(admitted)) findings.good("deviation tenants", `only ${admitted.join(", ")}`);
    else if (risk.startsWith("None")) findings.good(`deviation ${each}`, "declared, and harmless");
    else findings.careful(`deviation ${each}`, risk, "Take it out if the provider does not need it.");
  }
  if (declared.length === 0) findings.good("deviations", "none declared");
  return findings.list;
}

function checkOAuth1Provider(
  platform: Platform,
  settings: ResolvedSignInSettings,
  name: string,
  provider: ResolvedSignInSettings["oauth1Providers"][string],
): readonly CheckFinding[] {
  const findings = createFindings(name);
  const callbacks = originsOf(settings).map((origin) => signInRoutes({ ...settings, origin }).callback(name));
  findings.good("callback URL", callbacks.join(", "));
  findings.careful(
    "protocol",
    "OAuth 1.0a: no ID token, no expiry, no way to take a token back",
    "Use OpenID Connect where the provider offers it.",
    "at the provider",
  );
  if (provider.signatureMethod === "PLAINTEXT")
    findings.careful(
      "signature",
      "PLAINTEXT: TLS alone protects the secrets",
      "Use HMAC-SHA256 or HMAC-SHA1.",
    );
  else findings.good("signature", provider.signatureMethod);
  checkClientSecret(findings, platform, provider);
  checkClientKeys(findings, platform, provider);
  return findings.list;
}

function checkClientSecret(
  findings: Findings,
  platform: Platform,
  { clientSecret, clientAuthentication }: Pick<Provider, "clientSecret" | "clientAuthentication">,
): void {
  if (clientSecret === undefined) {
    findings.good("client secret", "none: a public client");
    return;
  }
  try {
    const secret = resolveSecret({ platform }, clientSecret, "clientSecret").reveal();
    if (secret.trim() !== secret)
      findings.wrong("client secret", "begins or ends with white space", "Paste it again without.");
    else
      findings.good(
        "client secret",
        `${secret.length} characters${clientAuthentication === undefined ? "" : `, sent with ${clientAuthentication}`}`,
      );
  } catch (error) {
    if (!isProblem(error)) throw error;
    findings.wrong(
      "client secret",
      error.problem.received ?? error.problem.title,
      error.problem.here ?? "Set it.",
    );
  }
  checkPermissions(findings, "secret file", clientSecret);
}

function checkClientKeys(
  findings: Findings,
  platform: Platform,
  { clientKeys }: Pick<Provider, "clientKeys">,
): void {
  if (clientKeys === undefined) return;
  try {
    const keys = readClientKeys(resolveSecret({ platform }, clientKeys, "clientKeys"));
    const signing = keys.filter(({ use }) => use !== "enc");
    const decrypting = keys.length - signing.length;
    const signs =
      signing.length === 0
        ? "none signs"
        : `${signing.length}, the first signs with ${signing[0]?.alg ?? ""}`;
    findings.good("client keys", decrypting === 0 ? signs : `${signs}; ${decrypting} to decrypt with`);
  } catch (error) {
    if (!isProblem(error)) throw error;
    const remedy = "Make one with: tenonsaw keys --signing ES256 --out <file>";
    findings.wrong("client keys", error.problem.received ?? error.problem.title, remedy);
  }
  checkPermissions(findings, "client key file", clientKeys);
}

/** Whether anybody else on this machine can read a secret's file. */
function checkPermissions(findings: Findings, name: string, reference: string | SecretReference): void {
  if (typeof reference === "string" || !("file" in reference)) return;
  const path = reference.file;
  const status = statSync(path, { throwIfNoEntry: false });
  if (!status) return;
  const others = status.mode & 0o077;
  if (others === 0) findings.good(name, `${path} can be read by its owner only`);
  else
    findings.careful(
      name,
      `${path} can be read by others (mode ${(status.mode & 0o777).toString(8)})`,
      `Run: chmod 600 ${path}`,
    );
}
