import { beginSignIn, isProblem, readClientKeys, refreshGrant, type Platform, type Provider } from "tenonsaw";
import { resolveSecret, type ResolvedSignInSettings } from "tenonsaw/server";
import { markDifference, nearestUrl } from "./difference.js";
import type { Findings } from "./finding.js";

type ProviderSettings = ResolvedSignInSettings["providers"][string];

/** A code that cannot exist: who knows the client says so of the code, who does not says so of the client. */
export async function checkClient(
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
    } else if (code === "grant.refresh-refused")
      findings.good("client", `client ID and ${provider.clientAuthentication} are accepted`);
    else findings.careful("client", `the answer does not tell: ${received}`, "Try a sign-in: tenonsaw try.");
  }
}

/**
 * Whether the redirect URI is registered: by a pushed request where the provider takes them (RFC 9126), otherwise by an
 * authorization request that asks nobody.
 *
 * @param canProve whether the app has what proves it: a pushed request takes that
 */
export async function checkRedirectUri(
  findings: Findings,
  provider: Provider,
  redirectUri: string,
  canProve: boolean,
): Promise<void> {
  const name = "authorization request";
  if (!canProve || provider.metadata.pushed_authorization_request_endpoint === undefined) {
    await askWithoutPerson(findings, provider, redirectUri);
    return;
  }
  try {
    await beginSignIn({ ...provider, pushesRequests: true }, { redirectUri });
    findings.good(name, `${redirectUri} is registered, says the pushed request`);
  } catch (error) {
    if (!isProblem(error, "attempt.request-refused")) {
      if (!isProblem(error)) throw error;
      await askWithoutPerson(findings, provider, redirectUri);
      return;
    }
    judgeRefusal(findings, provider, redirectUri, error.problem.received ?? "");
  }
}

/** An answer at the redirect URI, even an error, means that it is registered. */
async function askWithoutPerson(findings: Findings, provider: Provider, redirectUri: string): Promise<void> {
  const name = "authorization request";
  const { platform } = provider.tools;
  const { url } = await beginSignIn({ ...provider, pushesRequests: false }, { redirectUri });
  const request = new URL(url);
  request.searchParams.set("prompt", "none");
  const answer = await platform
    .fetch(request.href, { redirect: "manual", signal: platform.deadline(provider.timeoutSeconds) })
    .catch(() => undefined);
  const location = answer?.headers.get("location");
  if (location?.startsWith(redirectUri) === true) {
    const { searchParams } = new URL(location);
    const error = searchParams.get("error") ?? "";
    const said = `${error}, ${searchParams.get("error_description") ?? ""}`;
    if (["invalid_scope", "unauthorized_client", "invalid_request"].includes(error))
      findings.wrong(name, `refused: ${said}`, "Compare scope and registration.");
    else findings.good(name, `${redirectUri} is registered`);
    return;
  }
  const page = (await answer?.text().catch(() => "")) ?? "";
  if (answer === undefined || answer.status >= 500)
    findings.careful(name, "no answer", "Try again.", "at the provider");
  else if (answer.status >= 400)
    judgeRefusal(findings, provider, redirectUri, page || `status ${answer.status}`);
  else {
    const looked = "the provider shows a page instead of answering";
    findings.careful(name, looked, "Try a sign-in: tenonsaw try.");
  }
}

/** What a refusal is about, going by its words; the registered redirect URI marked against ours, where it is told. */
function judgeRefusal(findings: Findings, provider: Provider, redirectUri: string, said: string): void {
  const name = "authorization request";
  const registered = nearestUrl(said, redirectUri);
  const difference =
    registered === undefined ? "" : `\n${markDifference(registered, redirectUri, "registered", "sent")}`;
  if (/redirect/i.test(said)) {
    const looked = `the redirect URI is refused: ${redirectUri}${difference}`;
    const remedy = "Register exactly this URI, or correct origin and basePath.";
    findings.wrong(name, looked, remedy, "at the provider");
  } else if (/client/i.test(said)) {
    const looked = `the client is not known, or not accepted: ${provider.clientId}`;
    findings.wrong(name, looked, "Compare clientId with the console, for this environment.");
  } else if (/scope/i.test(said)) {
    findings.wrong(name, `refused: ${said.slice(0, 300)}`, "Compare scope and registration.");
  } else {
    const looked = `refused: ${said.slice(0, 300)}`;
    findings.wrong(name, looked, "Compare the registration.", "at the provider");
  }
}

/** False only where there should be a secret and is none. */
export function hasSecret(platform: Platform, { clientSecret, clientKeys }: ProviderSettings): boolean {
  try {
    if (clientSecret !== undefined) resolveSecret({ platform }, clientSecret, "clientSecret");
    if (clientKeys !== undefined) readClientKeys(resolveSecret({ platform }, clientKeys, "clientKeys"));
    return true;
  } catch {
    return false;
  }
}
