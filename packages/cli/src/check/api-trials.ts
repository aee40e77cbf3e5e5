import { isProblem, type Platform } from "tenonsaw";
import { createTools, decodeJws, prepareKey, signJws, type JsonObject, type Jwk } from "tenonsaw/jose";
import { callApi } from "../call-api.js";
import type { Findings } from "./finding.js";

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
export interface Trial {
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

/** What an API is tried with, as far as such tokens are to be had: by the practice provider all of them. */
export async function makeTrials(
  findings: Findings,
  platform: Platform,
  api: ApiAtHand,
): Promise<{ readonly good: string | undefined; readonly trials: readonly Trial[] }> {
  const practice = await practiceTokens(platform, api);
  if (practice) {
    // One that was given is what was asked about.
    const good = api.token ?? (await practice({}));
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
