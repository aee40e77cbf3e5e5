import { parseChallenges } from "tenonsaw";
import type { Explanation, Finding } from "./explanation.js";

const meanings: Readonly<Record<string, string>> = {
  realm: "a name for what is protected",
  scope: "what an access token has to allow",
  error: "why the call was refused",
  error_description: "the API's words for a developer",
  resource_metadata: "where the API describes itself (RFC 9728)",
};

const advice: Readonly<Record<string, string>> = {
  invalid_token:
    "The token is expired, revoked, malformed, of another issuer or for another API. Explain the token itself.",
  insufficient_scope:
    "The token does not allow this. Add the scope to `scope`, allow it at the provider, and sign in again.",
  invalid_request: "The request is malformed: two ways of sending the token at once, or a parameter twice.",
  use_dpop_nonce: "The API wants a nonce in the DPoP proof (RFC 9449 section 9).",
};

/** Explains the challenges in `WWW-Authenticate`: RFC 6750 section 3, RFC 9110 section 11.6.1. */
export function explainChallenge(header: string): Explanation {
  const challenges = parseChallenges(header);
  if (challenges.length === 0) {
    return {
      kind: "challenge",
      summary: "This is no challenge that can be read",
      parts: [],
      findings: [
        { verdict: "wrong", message: "It cannot be read as a challenge (RFC 9110 section 11.6.1)." },
      ],
      judgements: [],
    };
  }
  const errors = challenges.flatMap(({ parameters: { error } }) => (error === undefined ? [] : [error]));
  const schemes = challenges.map(({ scheme }) => scheme).join(" or ");
  return {
    kind: "challenge",
    summary:
      errors.length === 0
        ? `The API wants credentials of the kind ${schemes}, and none came`
        : `The API refused a token: ${errors.join(", ")}`,
    parts: challenges.flatMap(({ scheme, parameters, token68 }) => [
      { name: "scheme", value: scheme, meaning: "the kind of credentials" },
      ...(token68 === undefined ? [] : [{ name: "value", value: token68, meaning: "the scheme's own" }]),
      ...Object.entries(parameters).map(([name, value]) => ({
        name,
        value,
        meaning: meanings[name] ?? "the API's own",
      })),
    ]),
    findings: (errors.length === 0 ? [undefined] : errors).map(find),
    judgements: [],
  };
}

function find(error: string | undefined): Finding {
  if (error === undefined) {
    return {
      verdict: "wrong",
      message:
        "No token was sent, or not in the Authorization header. Something on the way may take that header out.",
    };
  }
  return { verdict: "wrong", message: `${error}: ${advice[error] ?? "an error of this API's own."}` };
}
