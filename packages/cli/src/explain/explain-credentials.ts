import type { ExplainContext, Explanation, Finding, Part } from "./explanation.js";
import { veiled } from "./parameters.js";

/** What a caller sends to prove itself, where it is no token: RFC 7617, RFC 6750 section 2.1. */
export const credentials =
  /^(basic) +([\w+/-]+=*)$|^(bearer|dpop) +(undefined|null|nan|false|\[object object\])$/i;

/** Explains an Authorization header that holds a client's ID and secret, or a word in place of a token. */
export async function explainCredentials(context: ExplainContext, header: string): Promise<Explanation> {
  const [, , encoded, scheme = "", word = ""] = credentials.exec(header) ?? [];
  return encoded === undefined ? explainWord(scheme, word) : explainBasic(context, encoded);
}

function explainWord(scheme: string, word: string): Explanation {
  return explanationOf(
    "A call with a word in place of its access token",
    {
      verdict: "wrong",
      message: `The caller had no token and sent "${word}". See why it had none: a member that is called otherwise, a promise that is not awaited, nobody signed in.`,
    },
    [
      { name: "scheme", value: scheme, meaning: "how the token is sent" },
      { name: "token", value: word, meaning: "what a variable without a value becomes in a text" },
    ],
  );
}

async function explainBasic({ platform }: ExplainContext, encoded: string): Promise<Explanation> {
  const text = Buffer.from(encoded, "base64").toString("utf8");
  const colon = text.indexOf(":");
  if (colon < 0)
    return explanationOf("Basic credentials without a colon", {
      verdict: "wrong",
      message: "It does not read as an ID, a colon and a secret in Base64 (RFC 7617 section 2).",
    });
  const [id, secret] = [text.slice(0, colon), text.slice(colon + 1)].map(readFormValue);
  return explanationOf(
    "A client's ID and secret, by Basic",
    {
      verdict: "careful",
      message:
        "Whoever sees this header has the secret: keep it out of chats, tickets and logs. It proves a client at the token endpoint; an API takes an access token instead.",
    },
    [
      {
        name: "client ID",
        value: id ?? "",
        meaning: "or a user's name; as a form has it (RFC 6749 section 2.3.1)",
      },
      { name: "secret", value: await veiled(platform, secret ?? ""), meaning: "by fingerprint" },
    ],
  );
}

function explanationOf(summary: string, finding: Finding, parts: readonly Part[] = []): Explanation {
  return { kind: "credentials", summary, parts, findings: [finding], judgements: [] };
}

/** Not every client encodes them: what cannot be decoded stands as it is. */
function readFormValue(value: string): string {
  try {
    return decodeURIComponent(value.replaceAll("+", " "));
  } catch {
    return value;
  }
}
