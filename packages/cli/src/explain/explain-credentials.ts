import { fingerprint } from "tenonsaw/trace";
import type { ExplainContext, Explanation } from "./explanation.js";

/** What a caller sends to prove itself, where it is no token: RFC 7617, RFC 6750 section 2.1. */
export const credentials =
  /^(basic) +([\w+/-]+=*)$|^(bearer|dpop) +(undefined|null|nan|false|\[object object\])$/i;

/** Explains an Authorization header that holds a client's ID and secret, or a word in place of a token. */
export async function explainCredentials({ platform }: ExplainContext, header: string): Promise<Explanation> {
  const [, basic, encoded = "", scheme = "", word = ""] = credentials.exec(header) ?? [];
  if (basic === undefined)
    return {
      kind: "credentials",
      summary: "A call with a word in place of its access token",
      parts: [
        { name: "scheme", value: scheme, meaning: "how the token is sent" },
        { name: "token", value: word, meaning: "what a variable without a value becomes in a text" },
      ],
      findings: [
        {
          verdict: "wrong",
          message: `The caller had no token and sent "${word}". See why it had none: a member that is called otherwise, a promise that is not awaited, nobody signed in.`,
        },
      ],
      judgements: [],
    };
  const text = Buffer.from(encoded, "base64").toString("utf8");
  const [id = "", secret] = /^([^:]*):(.*)$/s.exec(text)?.slice(1) ?? [];
  const read = (part: string) => {
    try {
      return decodeURIComponent(part.replaceAll("+", " "));
    } catch {
      return part;
    }
  };
  return {
    kind: "credentials",
    summary:
      secret === undefined ? "Basic credentials without a colon" : "A client's ID and secret, by Basic",
    parts: [
      ...(secret === undefined
        ? []
        : [
            {
              name: "client ID",
              value: read(id),
              meaning: "or a user's name; as a form has it (RFC 6749 section 2.3.1)",
            },
            {
              name: "secret",
              value: `${await fingerprint(platform, read(secret))} (${read(secret).length} characters)`,
              meaning: "by fingerprint",
            },
          ]),
    ],
    findings: [
      secret === undefined
        ? {
            verdict: "wrong",
            message: "It does not read as an ID, a colon and a secret in Base64 (RFC 7617 section 2).",
          }
        : {
            verdict: "careful",
            message:
              "Whoever sees this header has the secret: keep it out of chats, tickets and logs. It proves a client at the token endpoint; an API takes an access token instead.",
          },
    ],
    judgements: [],
  };
}
