import { ProblemError } from "tenonsaw";
import { parseJsonObject } from "tenonsaw/jose";
import { explainAnswer } from "./explain-answer.js";
import { explainAuthorizationUrl } from "./explain-authorization-url.js";
import { explainCallbackUrl } from "./explain-callback-url.js";
import { explainChallenge } from "./explain-challenge.js";
import { explainPair } from "./explain-pair.js";
import { explainProblem, isProblemCode } from "./explain-problem.js";
import { explainToken } from "./explain-token.js";
import type { ExplainContext, Explanation } from "./explanation.js";

/**
 * Recognises what was pasted and explains it, offline: a token, a callback or authorization URL, a token, error or
 * registration answer, a challenge, a problem code, or two addresses side by side.
 *
 * @throws cli.unrecognised; jose.not-json and jose.duplicate-member for what only looks like an answer
 */
export async function explain(context: ExplainContext, pasted: string): Promise<Explanation> {
  const text = clean(pasted);
  const [first = "", second = "", ...more] = text.split(/\s+/);
  if (more.length === 0 && isAddress(first) && isAddress(second)) return explainPair(first, second);
  const url = asUrl(text);
  if (url) {
    const has = (...names: readonly string[]) => names.some((name) => url.searchParams.has(name));
    if (has("response_type") || (has("client_id") && has("redirect_uri")))
      return explainAuthorizationUrl(context, url);
    if (has("code", "error", "state", "iss")) return explainCallbackUrl(context, url);
  } else if (text.startsWith("{")) {
    const answer = parseJsonObject(text, "the pasted text");
    if (["access_token", "error", "client_id"].some((name) => name in answer))
      return explainAnswer(context, answer);
  } else if (isProblemCode(text)) return explainProblem(text);
  else if (/^(bearer|dpop|basic)\b.*(=|$)/is.test(text) && !/^\S+\s+[\w-]+\./.test(text))
    return explainChallenge(text);
  else {
    const token = text.replace(/^bearer\s+/i, "").replaceAll(/\s/g, "");
    if (/^[^.]+(\.[^.]*)+$/.test(token)) return explainToken(context, token);
  }
  throw new ProblemError("cli.unrecognised", { received: describe(text, url) });
}

/** Without the quotes, line breaks and header name that come along when something is copied. */
function clean(pasted: string): string {
  const text = pasted.trim().replace(/^(["'`])(.*)\1$/s, "$2");
  return text.replace(/^(www-authenticate|authorization):\s*/i, "").trim();
}

function isAddress(text: string): boolean {
  return /^https?:\/\//i.test(text) && URL.canParse(text);
}

/** An absolute URL, a path with a query, or a query alone. */
function asUrl(text: string): URL | undefined {
  if (isAddress(text)) return new URL(text.replaceAll(/\s/g, ""));
  if (/^[/?]/.test(text)) return new URL(text, "http://pasted.invalid");
  return undefined;
}

function describe(text: string, url: URL | undefined): string {
  if (url) return "a URL without parameters of a sign-in";
  return text === ""
    ? "nothing"
    : `${text.length} characters that are neither a URL nor parts joined by dots`;
}
