import { statSync } from "node:fs";
import { deviationNotes, isProblem } from "tenonsaw";
import { isLoopback, type Platform } from "tenonsaw/platform";
import type { ChosenSettings, ResolvedSignInSettings } from "tenonsaw/server";
import { readKeyRing, resolveSecret, signInRoutes } from "tenonsaw/server";
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
  await checkSealingKeys(findings, platform, settings.keys);
  for (const [name, api] of Object.entries(settings.apis)) {
    findings.good(`API ${name}`, `takes tokens of ${api.provider}, sent to ${api.origin} only`);
  }
  if (settings.development)
    findings.careful("development", "problems are shown in full", "Switch it off where visitors come.");
  else findings.good("development", "off");
  const own = Object.entries(settings.providers).flatMap(([name, provider]) =>
    checkProvider(platform, settings, name, provider),
  );
  return [...findings.list, ...own];
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
    findings.wrong(
      "sealing keys",
      error.problem.received ?? error.problem.title,
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
  findings.good("redirect URI", signInRoutes(settings).callback(name));
  checkClientSecret(findings, platform, provider);
  const scopes = provider.scope.split(" ");
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
    if (risk.startsWith("None")) findings.good(`deviation ${each}`, "declared, and harmless");
    else findings.careful(`deviation ${each}`, risk, "Take it out if the provider does not need it.");
  }
  if (declared.length === 0) findings.good("deviations", "none declared");
  return findings.list;
}

function checkClientSecret(
  findings: Findings,
  platform: Platform,
  { clientSecret, clientAuthentication }: Provider,
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
  if (typeof clientSecret === "object" && "file" in clientSecret)
    checkPermissions(findings, clientSecret.file);
}

function checkPermissions(findings: Findings, path: string): void {
  const status = statSync(path, { throwIfNoEntry: false });
  if (!status) return;
  const others = status.mode & 0o077;
  if (others === 0) findings.good("secret file", `${path} can be read by its owner only`);
  else
    findings.careful(
      "secret file",
      `${path} can be read by others (mode ${(status.mode & 0o777).toString(8)})`,
      `Run: chmod 600 ${path}`,
    );
}
