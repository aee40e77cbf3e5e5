import { beginSignIn, isProblem, refreshGrant, type Platform, type Provider } from "tenonsaw";
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
    } else if (code === "grant.refresh-refused") findings.good("client", "client ID and secret are accepted");
    else findings.careful("client", `the answer does not tell: ${received}`, "Try a sign-in: tenonsaw try.");
  }
}

/** Asks for a sign-in without a person. An answer at the redirect URI, even an error, means that it is registered. */
export async function checkRedirectUri(
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
export function hasSecret(platform: Platform, { clientSecret }: ProviderSettings): boolean {
  if (clientSecret === undefined) return true;
  try {
    resolveSecret({ platform }, clientSecret, "clientSecret");
    return true;
  } catch {
    return false;
  }
}
