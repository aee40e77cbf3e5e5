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
    const { code, because, title, here, received = "" } = error.problem;
    if (code === "grant.client-refused") {
      const [what, remedy] =
        because === undefined
          ? [
              "client ID or secret is not accepted",
              "Compare clientId and the secret with the console, for this environment.",
            ]
          : [title, here ?? ""];
      findings.wrong("client", `${what}: ${received}`, remedy);
    } else if (code === "grant.refresh-refused")
      findings.good("client", `client ID and ${provider.clientAuthentication} are accepted`);
    else if (because === "not-there") findings.wrong("client", `${title}: ${received}`, here ?? "", "here");
    else findings.untold("client", `the answer does not tell: ${received}`, "Try a sign-in: tenonsaw try.");
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
  if (!canProve || provider.metadata.pushed_authorization_request_endpoint === undefined) {
    await askWithoutPerson(findings, provider, redirectUri);
    return;
  }
  try {
    const { url } = await beginSignIn({ ...provider, pushesRequests: true }, { redirectUri });
    const page = await follow(provider, url, redirectUri);
    if (page && isNowhere(page)) tellNowhere(findings, provider, page);
    else findings.good(name, `${redirectUri} is registered, says the pushed request`);
  } catch (error) {
    if (!isProblem(error, "attempt.request-refused")) {
      if (!isProblem(error)) throw error;
      await askWithoutPerson(findings, provider, redirectUri);
      return;
    }
    judgeRefusal(findings, provider, redirectUri, error.problem.received ?? "");
  }
}

/** What a page says to whoever looks at it: without what is between tags, and without scripts and styles. */
function visibleText(page: string): string {
  return page
    .replace(/<(script|style|template|head)\b[\s\S]*?<\/\1\s*>/gi, " ")
    .replace(/<[^>]*>/g, " ")
    .replaceAll("&amp;", "&")
    .replace(/\s+/g, " ")
    .trim();
}

/** An answer at the redirect URI, even an error, means that it is registered. */
async function askWithoutPerson(findings: Findings, provider: Provider, redirectUri: string): Promise<void> {
  const { url } = await beginSignIn({ ...provider, pushesRequests: false }, { redirectUri });
  const request = new URL(url);
  request.searchParams.set("prompt", "none");
  const answer = await follow(provider, request.href, redirectUri);
  if (answer === undefined)
    findings.untold(
      name,
      "no answer to the authorization request",
      "Try again, or try a sign-in: tenonsaw try.",
    );
  else if (isNowhere(answer)) tellNowhere(findings, provider, answer);
  else if (answer.back !== undefined) judgeAnswer(findings, redirectUri, answer.back);
  else if (answer.status >= 500)
    findings.untold(
      name,
      `status ${answer.status} from the authorization endpoint: ${visibleText(answer.text).slice(0, 200) || "no words"}`,
      "Some providers fail like that for a redirect URI or a scope that they do not know. Try a sign-in: tenonsaw try.",
    );
  else {
    // Also with 200, and after a redirect to a page of its own: a refusal is what it says that it is.
    const said = visibleText(answer.text);
    const isRefusal =
      answer.status >= 400 ||
      /\b(error|invalid|mismatch|not (registered|allowed|valid|match\w*)|unknown|unauthori[sz]ed)\b/i.test(
        said,
      );
    if (isRefusal) judgeRefusal(findings, provider, redirectUri, said || `status ${answer.status}`);
    else
      findings.untold(
        name,
        "the provider shows a page instead of answering a request that asks nobody (prompt none)",
        "Try a sign-in: tenonsaw try.",
      );
  }
}

/** A request that is refused has another status: RFC 6749 section 4.1.2.1. */
const isNowhere = ({ status }: Answered) => [404, 405, 410].includes(status);

function tellNowhere(findings: Findings, { metadata }: Provider, { status }: Answered): void {
  findings.wrong(
    name,
    `${metadata.authorization_endpoint} answers with status ${status}`,
    "Correct `metadata.authorizationEndpoint`, where it was set by hand: people are sent to where nothing is.",
  );
}

interface Answered {
  readonly status: number;
  readonly text: string;
  /** Where it went back to the app. */
  readonly back?: URL;
}

/** Follows a few redirects of the provider's own, as a browser would, up to the one that leads back here. */
async function follow(
  { tools: { platform }, timeoutSeconds }: Provider,
  url: string,
  redirectUri: string,
): Promise<Answered | undefined> {
  let at = url;
  try {
    for (let hops = 0; hops < 4; hops += 1) {
      const answer = await platform.fetch(at, {
        redirect: "manual",
        signal: platform.deadline(timeoutSeconds),
      });
      const location = answer.headers.get("location");
      if (location === null || answer.status < 300 || answer.status >= 400)
        return { status: answer.status, text: await answer.text() };
      const next = new URL(location, at);
      if (next.href.split(/[?#]/)[0] === redirectUri.split(/[?#]/)[0])
        return { status: answer.status, text: "", back: next };
      if (next.origin !== new URL(url).origin) return { status: 200, text: "" };
      at = next.href;
    }
    return { status: 200, text: "" };
  } catch {
    return undefined;
  }
}

function judgeAnswer(findings: Findings, redirectUri: string, back: URL): void {
  // Response mode fragment, too.
  const parameters = new URLSearchParams(back.search || back.hash.slice(1));
  const error = parameters.get("error") ?? "";
  const said = [error, parameters.get("error_description")].filter(Boolean).join(", ");
  const isOurs = ["invalid_scope", "unauthorized_client", "invalid_request", "unsupported_response_type"];
  if (isOurs.includes(error))
    findings.wrong(
      name,
      `the redirect URI is registered, and the request refused: ${said}`,
      "Compare scope, responseType and registration.",
    );
  else findings.good(name, `${redirectUri} is registered`);
}

/** What a refusal is about, going by its words; the registered redirect URI marked against ours, where it is told. */
function judgeRefusal(findings: Findings, provider: Provider, redirectUri: string, said: string): void {
  const other = nearestUrl(said, redirectUri);
  // That an address on the page is the registered one is for the page to say.
  const isRegistered =
    other !== undefined && /\bregist\w+[^.]{0,80}$/i.test(said.slice(0, said.indexOf(other)));
  const difference =
    other === undefined
      ? ""
      : `\n${markDifference(other, redirectUri, isRegistered ? "registered" : "the page says", "sent")}`;
  if (/redirect/i.test(said)) {
    const looked = `the redirect URI is refused: ${redirectUri}${difference}`;
    const remedy = "Register exactly this URI, or correct origin and basePath.";
    findings.wrong(name, looked, remedy, "at the provider");
  } else if (/\b(client|application|app)\b/i.test(said)) {
    if (findings.list.some((each) => each.name === "client" && each.verdict === "wrong"))
      findings.skipped(name, "the client is not accepted: see above");
    else {
      const looked = `the client is not known, or not accepted: ${provider.clientId}`;
      findings.wrong(name, looked, "Compare clientId with the console, for this environment.");
    }
  } else if (/scope/i.test(said)) {
    if (findings.list.some((each) => each.name === "scopes" && each.verdict === "wrong"))
      findings.skipped(name, "a scope is not offered: see above");
    else findings.wrong(name, `refused: ${said.slice(0, 300)}`, "Compare scope and registration.");
  } else
    findings.untold(
      name,
      `refused, and why is not clear: ${said.slice(0, 300)}`,
      "Compare the registration; try a sign-in: tenonsaw try.",
    );
}

const name = "authorization request";

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
