import type { JsonObject } from "tenonsaw/jose";
import type { ExplainContext, Explanation, Finding } from "./explanation.js";
import { describeAnswer } from "./parameters.js";
import { errorMeanings, tokenErrorMeanings } from "./meanings.js";

const memberMeanings: Readonly<Record<string, string>> = {
  access_token: "what APIs are called with",
  token_type: "how it is sent; Bearer",
  expires_in: "lifetime of the access token, in seconds",
  refresh_token: "renews the access token; often good once only",
  id_token: "who signed in; explain it by itself",
  scope: "what was granted, which may be less than what was asked for",
  error: "why not",
  error_description: "the provider's words for a developer",
  client_id: "the app's ID from now on",
  client_secret: "its secret: keep it out of the settings file",
  client_secret_expires_at: "when the secret ends; 0 is never",
  registration_client_uri: "where the registration can be changed",
  registration_access_token: "what that takes",
  redirect_uris: "where answers may go",
};

/** Explains a token answer (RFC 6749 section 5.1), an error answer (5.2) or a registration answer (RFC 7591 section 3.2). */
export async function explainAnswer({ platform }: ExplainContext, answer: JsonObject): Promise<Explanation> {
  const kind =
    "error" in answer ? "error answer" : "client_id" in answer ? "registration answer" : "token answer";
  return {
    kind,
    summary: summarise(kind, answer),
    parts: await describeAnswer(platform, answer, memberMeanings, "the provider's own"),
    findings: [...findMistakes(kind, answer)],
    judgements: [],
  };
}

function summarise(kind: string, answer: JsonObject): string {
  if (kind === "error answer") return `The provider said no: ${text(answer["error"])}`;
  if (kind === "registration answer") return `An app was registered as ${text(answer["client_id"])}`;
  const has = (name: string, what: string) => (name in answer ? [what] : []);
  return `Tokens: ${["an access token", ...has("refresh_token", "a refresh token"), ...has("id_token", "an ID token")].join(", ")}`;
}

function findMistakes(kind: string, answer: JsonObject): readonly Finding[] {
  const error = text(answer["error"]);
  if (kind === "error answer") {
    const meaning = tokenErrorMeanings[error] ?? errorMeanings[error] ?? "a code of this provider's own";
    return [{ verdict: "wrong", message: `${error}: ${meaning}.` }];
  }
  if (kind === "registration answer") {
    return [
      {
        verdict: "careful",
        message: "The secret is shown once. Put it where the settings refer to, and clear it from here.",
      },
    ];
  }
  const lifetime = Number(answer["expires_in"] ?? 0);
  const rules: readonly (readonly [boolean, Finding])[] = [
    [
      answer["token_type"] === undefined,
      {
        verdict: "wrong",
        message: "token_type is missing. (deviation tokenTypeAbsent)",
        code: "grant.answer-refused",
      },
    ],
    [
      !(lifetime >= 0),
      { verdict: "wrong", message: "expires_in is negative or no number.", code: "grant.answer-refused" },
    ],
    [
      answer["expires_in"] === undefined,
      { verdict: "careful", message: "It does not say how long the access token is good." },
    ],
    [
      answer["refresh_token"] === undefined,
      {
        verdict: "careful",
        message:
          "There is no refresh token: offline_access, or a parameter of the provider's own, may ask for one.",
      },
    ],
    [
      true,
      {
        verdict: "careful",
        message: "These tokens may be live: keep them out of chats, tickets and web pages.",
      },
    ],
  ];
  return rules.filter(([applies]) => applies).map(([, finding]) => finding);
}

function text(value: unknown): string {
  return typeof value === "string" ? value : JSON.stringify(value);
}
