import { isProblem, parseChallenges, type Platform } from "tenonsaw";
import { createTools, decodeJws, prepareKey, signJws, type JsonObject, type Jwk } from "tenonsaw/jose";
import { callApi } from "../call-api.js";
import { callBare } from "./call-bare.js";
import { createFindings, type CheckFinding, type Findings } from "./finding.js";

/** An API that is looked at from outside. */
export interface ApiAtHand {
  readonly name: string;
  /** What is called: its address of the settings, with `--path` or `sample` behind it. */
  readonly url: string;
  readonly issuer: string;
  readonly audience: string;
  readonly metadataUrl: string;
  /** What the call takes, separated by spaces, where that is known. */
  readonly scope?: string;
  /** A token that the API takes, where there is one at hand. */
  readonly token?: string;
}

/** What is sent, and what a sound API answers. */
interface Trial {
  readonly name: string;
  /** In words, for the finding. */
  readonly what: string;
  readonly token: string;
  readonly scheme?: "DPoP";
  /** Codes of RFC 6750 and RFC 9449 that fit. */
  readonly errors: readonly string[];
  readonly status?: 403;
  /** What lets such a token in. */
  readonly remedy: string;
}

const invalid = ["invalid_token"];

/** Faults that the practice provider makes tokens with, and what an API that lets them in has forgotten. */
const faults: readonly (Omit<Trial, "token"> & { readonly fault: string })[] = [
  {
    fault: "expired",
    name: "expired",
    what: "a token that has expired",
    errors: invalid,
    remedy: "Compare `exp` with the clock (RFC 9068 section 4).",
  },
  {
    fault: "from-the-future",
    name: "not yet valid",
    what: "a token that begins in an hour",
    errors: invalid,
    remedy: "Compare `nbf` and `iat` with the clock.",
  },
  {
    fault: "other-audience",
    name: "other audience",
    what: "a token for another API",
    errors: invalid,
    remedy:
      "Compare `aud` with this API's own name (RFC 9068 section 4): whoever has a token for any API of the issuer gets in.",
  },
  {
    fault: "other-issuer",
    name: "other issuer",
    what: "a token that names another issuer",
    errors: invalid,
    remedy: "Compare `iss` with the issuer, character for character.",
  },
  {
    fault: "id-token",
    name: "ID token",
    what: "an ID token in place of an access token",
    errors: invalid,
    remedy: "Take tokens of type at+jwt only (RFC 9068 section 4).",
  },
  {
    fault: "cut",
    name: "cut",
    what: "a token whose end is missing",
    errors: invalid,
    remedy: "Verify the signature.",
  },
  {
    fault: "of-a-stranger",
    name: "stranger's signature",
    what: "a token that somebody else has signed",
    errors: invalid,
    remedy: "Verify the signature by the keys of the issuer.",
  },
  {
    fault: "unsigned",
    name: "no signature",
    what: "a token of alg none",
    errors: invalid,
    remedy: "Take the algorithms of the issuer only (RFC 8725 section 3.1).",
  },
  {
    fault: "other-scope",
    name: "too little scope",
    what: "a token that does not allow the call",
    errors: ["insufficient_scope"],
    status: 403,
    remedy: "Compare `scope` with what the call takes.",
  },
  {
    fault: "bound-to-a-key",
    name: "bound, as bearer",
    what: "a token that is bound to a key, without a proof",
    errors: [...invalid, "invalid_dpop_proof"],
    remedy: "Refuse a token with `cnf.jkt` unless a proof comes with it (RFC 9449 section 7.2).",
  },
];

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

async function makeTrials(
  findings: Findings,
  platform: Platform,
  api: ApiAtHand,
): Promise<{ readonly good: string | undefined; readonly trials: readonly Trial[] }> {
  const practice = await practiceTokens(platform, api);
  if (practice) {
    const good = await practice({});
    const trials = await Promise.all(
      faults.map(async ({ fault, ...rest }): Promise<Trial> => ({
        ...rest,
        token: await practice({ fault }),
      })),
    );
    return { good, trials: [...trials, unproven(good)] };
  }
  const made = await forged(api);
  findings.untold(
    "genuine, but wrong",
    api.token === undefined
      ? "expired, for another API, with too little scope: only the issuer can make such tokens"
      : "for another API, with too little scope: only the issuer can make such tokens",
    "Try them against the practice provider, in a test of the API's own: practice.token({ fault }).",
  );
  const own = api.token === undefined ? [] : fromGenuine(api.token);
  return {
    good: api.token,
    trials: [...made, ...own, ...(api.token === undefined ? [] : [unproven(api.token)])],
  };
}

const unproven = (token: string): Trial => ({
  name: "DPoP without proof",
  what: "a token sent by the scheme DPoP, without a proof",
  token,
  scheme: "DPoP",
  errors: ["invalid_token", "invalid_dpop_proof"],
  remedy: "Ask for a proof wherever the scheme is DPoP (RFC 9449 section 7.1).",
});

/** The practice provider makes any token, right or wrong. */
async function practiceTokens(platform: Platform, api: ApiAtHand) {
  const answer = await callApi(platform, api.metadataUrl, {}).catch(() => undefined);
  const metadata = (await answer?.json().catch(() => undefined)) as
    { practice_token_endpoint?: unknown } | undefined;
  const endpoint = metadata?.practice_token_endpoint;
  if (typeof endpoint !== "string" || !endpoint.startsWith(new URL(api.issuer).origin)) return undefined;
  return async (wish: object): Promise<string> => {
    const body = JSON.stringify({
      audience: api.audience,
      ...(api.scope !== undefined && { scope: api.scope }),
      ...wish,
    });
    const made = await callApi(platform, endpoint, { method: "POST", body });
    return ((await made.json()) as { token: string }).token;
  };
}

/** Tokens that look right and that the issuer has not made. */
async function forged(api: ApiAtHand): Promise<readonly Trial[]> {
  const now = Math.floor(Date.now() / 1000);
  const { issuer, audience, scope = "" } = api;
  const claims = {
    iss: issuer,
    aud: audience,
    sub: "nobody",
    client_id: "nobody",
    iat: now,
    exp: now + 60,
    jti: "made-up",
    scope,
  };
  const tools = createTools();
  const jwk = (await tools.platform.crypto.generateKey("P-256")) as unknown as Jwk;
  const key = await prepareKey(tools, jwk, "ES256", "sign");
  const encode = (value: JsonObject) => Buffer.from(JSON.stringify(value)).toString("base64url");
  const remedyOf = (fault: string) => faults.find((each) => each.fault === fault)?.remedy ?? "";
  return [
    {
      name: "stranger's signature",
      what: "a token that somebody else has signed",
      token: await signJws(tools, key, claims, { kid: "made-up", typ: "at+jwt" }),
      errors: invalid,
      remedy: remedyOf("of-a-stranger"),
    },
    {
      name: "no signature",
      what: "a token of alg none",
      token: `${encode({ alg: "none", typ: "at+jwt" })}.${encode(claims)}.`,
      errors: invalid,
      remedy: remedyOf("unsigned"),
    },
    {
      name: "no token at all",
      what: "a token of five letters",
      token: "hello",
      errors: invalid,
      remedy: "Refuse what is no token of the issuer's.",
    },
  ];
}

/** What can be made of a genuine token: cut, and with other claims. */
function fromGenuine(token: string): readonly Trial[] {
  const [head = "", body = "", signature = ""] = token.split(".");
  const cut = {
    name: "cut",
    what: "the token without its end",
    token: token.slice(0, -12),
    errors: invalid,
    remedy: "Verify the signature.",
  };
  if (signature === "") return [cut];
  try {
    const { payload } = decodeJws(token);
    const changed = Buffer.from(JSON.stringify({ ...payload, sub: "somebody-else" })).toString("base64url");
    const altered = {
      name: "altered",
      what: "the token with another subject",
      token: `${head}.${changed}.${signature}`,
      errors: invalid,
      remedy: "Verify the signature over the whole token.",
    };
    return [cut, altered];
  } catch (error) {
    if (!isProblem(error)) throw error;
    return body === "" ? [] : [cut];
  }
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
