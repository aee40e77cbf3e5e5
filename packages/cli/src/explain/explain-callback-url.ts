import { tenantNames } from "../tenant-names.js";
import { signInRoutes } from "tenonsaw/server";
import type { ExplainContext, Explanation, Finding, Judgement } from "./explanation.js";
import { errorMeanings, parameterMeanings } from "./meanings.js";
import { describeParameters, findDoubled } from "./parameters.js";

/** Explains an authorization response: RFC 6749 sections 4.1.2 and 4.1.2.1, RFC 9207. */
export async function explainCallbackUrl(context: ExplainContext, url: URL): Promise<Explanation> {
  const { searchParams } = url;
  const error = searchParams.get("error");
  const isCode =
    searchParams.has("code") || !(searchParams.has("access_token") || searchParams.has("id_token"));
  const granted = isCode ? "granted" : "tokens";
  const outcome = error === null ? granted : error === "access_denied" ? "declined" : "failed";
  return {
    kind: "callback URL",
    summary: `The way back from a provider: ${{ granted: "a code was given", tokens: "tokens were given", declined: "the person said no, or the provider did not allow it", failed: `it failed with ${error ?? ""}` }[outcome]}`,
    parts: await describeParameters(context.platform, searchParams, parameterMeanings),
    findings: [
      ...findDoubled(searchParams),
      ...findMissing(searchParams),
      ...findError(error),
      ...findLive(searchParams),
    ],
    judgements: judge(context, url),
  };
}

function findMissing(parameters: URLSearchParams): readonly Finding[] {
  const findings: Finding[] = [];
  if (!parameters.get("state")) {
    findings.push({
      verdict: "wrong",
      message: "There is no state, so the answer cannot be tied to a request. It is refused.",
      code: "response.state-missing",
    });
  }
  const hasToken = parameters.has("access_token") || parameters.has("id_token");
  if (!parameters.has("code") && !parameters.has("error") && !hasToken) {
    findings.push({
      verdict: "wrong",
      message: "There is neither a code nor an error.",
      code: "response.code-missing",
    });
  }
  if (hasToken) {
    findings.push({
      verdict: "wrong",
      message:
        "There is a token in the address. It stays in histories and logs; response_type code avoids that.",
    });
  }
  return findings;
}

function findError(error: string | null): readonly Finding[] {
  if (error === null) return [];
  const meaning = errorMeanings[error] ?? "a code of this provider's own";
  const isDecision = error === "access_denied";
  return [
    {
      verdict: isDecision ? "careful" : "wrong",
      message: `${error}: ${meaning}.`,
      ...(!isDecision && { code: "response.provider-error" }),
    },
  ];
}

function findLive(parameters: URLSearchParams): readonly Finding[] {
  if (!parameters.has("code")) return [];
  return [
    { verdict: "careful", message: "The code may still be good for a minute. Do not pass this address on." },
  ];
}

function judge({ settings }: ExplainContext, url: URL): readonly Judgement[] {
  if (!settings) return [];
  const named = Object.entries(settings.providers).flatMap(([name, each]) =>
    tenantNames(name, each).map((provider) => [provider, each] as const),
  );
  return named.map(([provider, { issuer }]) => {
    const expected = signInRoutes(settings).callback(provider);
    const received = url.origin + url.pathname;
    const iss = url.searchParams.get("iss");
    const reasons = [
      ...(received === expected
        ? []
        : [`It was sent to ${received}; the redirect URI of ${provider} is ${expected}.`]),
      ...(iss === null || iss === issuer
        ? []
        : [`response.issuer-mismatch: iss is ${iss}, the settings say ${issuer}.`]),
      ...(url.searchParams.get("state") ? [] : ["response.state-missing: there is no state."]),
      ...(url.searchParams.get("code") ? [] : ["There is no code to sign in with."]),
    ];
    return {
      provider,
      isAccepted: reasons.length === 0,
      reasons,
      notChecked: ["state (needs the sign-in it belongs to)", "code (only the provider knows)"],
    };
  });
}
