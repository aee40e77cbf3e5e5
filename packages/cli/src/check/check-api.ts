import { isProblem, parseChallenges, type Platform } from "tenonsaw";
import { callApi } from "../call-api.js";
import { makeTrials, type ApiAtHand, type Trial } from "./api-trials.js";
import { callBare } from "./call-bare.js";
import { createFindings, type CheckFinding, type Findings } from "./finding.js";

/** Looks at an API from outside: is it there, is it the one, and does it refuse what it has to refuse? */
export async function checkApi(platform: Platform, api: ApiAtHand): Promise<readonly CheckFinding[]> {
  const findings = createFindings(api.name);
  const { url } = api;
  try {
    if (!(await checkBare(findings, platform, api))) return findings.list;
    const { good, trials } = await makeTrials(findings, platform, api);
    for (const trial of trials) await tryOne(findings, platform, url, trial);
    await checkQuery(findings, platform, url, good);
    await checkGood(findings, platform, url, good);
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { title, received = "", here = "" } = error.problem;
    findings.wrong("address", `${title}: ${received}`, here);
  }
  return findings.list;
}

/** Without a token: what answers there, and whether it is the API at all. */
async function checkBare(findings: Findings, platform: Platform, api: ApiAtHand): Promise<boolean> {
  const { answer, type, looked } = await callBare(platform, api.url);
  const challenges = parseChallenges(answer.headers.get("www-authenticate"));
  const isPage = type.startsWith("text/html");
  if (answer.status !== 401 && answer.status !== 403) {
    if (isPage || answer.status === 404 || answer.status >= 500)
      findings.wrong(
        "the API itself",
        `${looked}: that is ${isPage ? "a web page, and not" : "no answer of"} an API that asks for a token`,
        "See what listens at this address: `origin` and `sample` of the API in the settings, and the port; another service may have it.",
      );
    else
      findings.wrong(
        "no token",
        `${looked}: it answers anybody`,
        "Let the guard stand before this route; or name a path under `sample` that takes a token.",
      );
    return false;
  }
  const challenge = challenges.find(({ scheme }) => scheme === "bearer" || scheme === "dpop");
  if (!challenge) {
    findings.wrong(
      "no token",
      `status ${answer.status} and ${challenges.length === 0 ? "no challenge" : `a challenge of ${challenges.map(({ scheme }) => scheme).join(", ")}`}`,
      "Answer 401 with WWW-Authenticate: Bearer (RFC 6750 section 3); something between here and the API may answer in its place.",
    );
    return false;
  }
  if (challenge.parameters["error"] !== undefined)
    findings.careful(
      "no token",
      "refused, with an error code",
      "Leave the error code out where no token came (RFC 6750 section 3.1).",
    );
  else findings.good("no token", "refused with a challenge, and no error code");
  await checkDescription(findings, platform, api, challenge.parameters["resource_metadata"]);
  return true;
}

/** What the API says of itself (RFC 9728): whether it is the one that the settings mean. */
async function checkDescription(
  findings: Findings,
  platform: Platform,
  api: ApiAtHand,
  address: string | undefined,
): Promise<void> {
  if (
    address === undefined ||
    !URL.canParse(address) ||
    new URL(address).origin !== new URL(api.url).origin
  ) {
    findings.untold(
      "the API itself",
      "its challenge names no metadata of its own",
      "Whether it is this API can be told by its metadata (RFC 9728), where it has some.",
    );
    return;
  }
  const answer = await callApi(platform, address, {});
  const about = (await answer.json().catch(() => undefined)) as
    { resource?: unknown; authorization_servers?: unknown } | undefined;
  const issuers = Array.isArray(about?.authorization_servers) ? about.authorization_servers : [];
  if (about?.resource !== api.audience)
    findings.careful(
      "the API itself",
      `it calls itself ${JSON.stringify(about?.resource)}; the settings ask for tokens for ${api.audience}`,
      "Set `audience` or `resource` of the API to what it calls itself, unless both names are meant.",
    );
  else findings.good("the API itself", `it is ${api.audience}`);
  if (issuers.includes(api.issuer)) findings.good("its issuer", `it takes tokens of ${api.issuer}`);
  else
    findings.wrong(
      "its issuer",
      `it takes tokens of ${issuers.join(", ") || "nobody"}; the settings get them from ${api.issuer}`,
      "Let both speak of one issuer: `issuer` of the guard, or of the provider in these settings. Another environment's API may be at this address.",
    );
}

async function tryOne(findings: Findings, platform: Platform, url: string, trial: Trial): Promise<void> {
  const { name, what, token, scheme = "Bearer", errors, status = 401, remedy } = trial;
  const answer = await callApi(platform, url, { headers: { authorization: `${scheme} ${token}` } });
  await answer.body?.cancel();
  const said = parseChallenges(answer.headers.get("www-authenticate")).find(
    ({ parameters }) => parameters["error"] !== undefined,
  );
  const error = said?.parameters["error"];
  if (answer.status < 400)
    findings.wrong(name, `it lets in ${what}: status ${answer.status}`, remedy, "here");
  else if (answer.status >= 500)
    findings.wrong(
      name,
      `it fails at ${what}: status ${answer.status}`,
      "Refuse it with 401; a stranger can send such a token at any time.",
    );
  else if (answer.status !== status || error === undefined || !errors.includes(error))
    findings.careful(
      name,
      `it refuses ${what}: status ${answer.status}, ${error ?? "no error code"}`,
      `Answer ${status} with error="${errors.join('" or "')}" (RFC 6750 section 3.1), so that callers know what to do.`,
    );
  else findings.good(name, `it refuses ${what}: ${status}, ${error}`);
}

async function checkQuery(
  findings: Findings,
  platform: Platform,
  url: string,
  good: string | undefined,
): Promise<void> {
  if (good === undefined) return;
  const address = new URL(url);
  address.searchParams.set("access_token", good);
  const answer = await callApi(platform, address.href, {});
  await answer.body?.cancel();
  if (answer.status < 400)
    findings.wrong(
      "token in the query",
      `it lets in a token in the address: status ${answer.status}`,
      "Take the token from the header only: addresses stay in histories and logs (RFC 9700 section 4.3.2).",
    );
  else findings.good("token in the query", `refused: ${answer.status}`);
}

async function checkGood(
  findings: Findings,
  platform: Platform,
  url: string,
  good: string | undefined,
): Promise<void> {
  if (good === undefined) {
    findings.untold(
      "a good token",
      "there is none at hand",
      "Give one by --token, or look at the API with the practice provider.",
    );
    return;
  }
  const answer = await callApi(platform, url, { headers: { authorization: `Bearer ${good}` } });
  await answer.body?.cancel();
  const said = parseChallenges(answer.headers.get("www-authenticate"))[0]?.parameters ?? {};
  if (answer.status < 400) findings.good("a good token", `it is let in: status ${answer.status}`);
  else if (said["error"] === "insufficient_scope")
    findings.careful(
      "a good token",
      `refused: the call takes the scope ${said["scope"] ?? "(it does not say which)"}`,
      "Name the scope by --scope, and ask for it in the settings.",
    );
  else
    findings.wrong(
      "a good token",
      `it is refused: status ${answer.status}, ${said["error"] ?? "no error code"}`,
      "Hold the token against the API: tenonsaw explain --against. The API's own log says why it was refused; its clock, its issuer or its audience may be other ones.",
    );
}
