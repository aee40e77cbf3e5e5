import { signInRoutes } from "tenonsaw/server";
import type { ExplainContext, Explanation, Finding, Judgement } from "./explanation.js";
import { parameterMeanings } from "./meanings.js";
import { describeParameters, findDoubled } from "./parameters.js";

/** Explains an authorization request: RFC 6749 section 4.1.1, RFC 7636, OpenID Connect Core 1.0 section 3.1.2.1. */
export async function explainAuthorizationUrl(context: ExplainContext, url: URL): Promise<Explanation> {
  const { searchParams } = url;
  return {
    kind: "authorization URL",
    summary: `A request to ${url.host}: ${searchParams.get("client_id") ?? "an unnamed client"} asks for ${searchParams.get("scope") ?? "nothing in particular"}`,
    parts: await describeParameters(context.platform, searchParams, parameterMeanings),
    findings: [...findDoubled(searchParams), ...findMistakes(searchParams)],
    judgements: judge(context, searchParams),
  };
}

function findMistakes(parameters: URLSearchParams): readonly Finding[] {
  const wrong = (message: string): Finding => ({ verdict: "wrong", message });
  const careful = (message: string): Finding => ({ verdict: "careful", message });
  const scopes = (parameters.get("scope") ?? "").split(" ");
  const rules: readonly (readonly [boolean, Finding])[] = [
    [!parameters.has("response_type"), wrong("response_type is missing.")],
    [!parameters.has("client_id"), wrong("client_id is missing.")],
    [!parameters.has("redirect_uri"), wrong("redirect_uri is missing; OpenID Connect requires it.")],
    [!parameters.get("state"), wrong("There is no state: anybody could bring an answer to this browser.")],
    [
      !parameters.has("code_challenge"),
      wrong("There is no PKCE code_challenge: a stolen code could be used."),
    ],
    [
      parameters.has("code_challenge") && parameters.get("code_challenge_method") !== "S256",
      wrong("code_challenge_method is not S256, so the challenge gives the verifier away."),
    ],
    [scopes.includes("openid") && !parameters.get("nonce"), wrong("openid is asked for without a nonce.")],
    [
      (parameters.get("response_type") ?? "").includes("token"),
      wrong("Tokens are asked for in the address. Ask for response_type code."),
    ],
    [
      scopes.includes("offline_access") && !(parameters.get("prompt") ?? "").split(" ").includes("consent"),
      careful("offline_access is asked for without prompt=consent; a strict provider leaves it out then."),
    ],
    [
      parameters.has("client_secret"),
      wrong("There is a client secret in the address. Change the secret: it is known now."),
    ],
  ];
  return rules.filter(([applies]) => applies).map(([, finding]) => finding);
}

function judge({ settings }: ExplainContext, parameters: URLSearchParams): readonly Judgement[] {
  if (!settings) return [];
  return Object.entries(settings.providers).map(([provider, { clientId, scope }]) => {
    const expected: Readonly<Record<string, string>> = {
      client_id: clientId,
      redirect_uri: signInRoutes(settings).callback(provider),
      scope,
    };
    const reasons = Object.entries(expected)
      .filter(([name, value]) => parameters.get(name) !== value)
      .map(
        ([name, value]) =>
          `${name} is ${parameters.get(name) ?? "missing"}; these settings would send ${value}.`,
      );
    return {
      provider,
      isAccepted: reasons.length === 0,
      reasons,
      notChecked: ["whether the provider has registered the same values"],
    };
  });
}
