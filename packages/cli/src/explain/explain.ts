import { ProblemError } from "tenonsaw";
import { explainAuthorizationUrl } from "./explain-authorization-url.js";
import { explainCallbackUrl } from "./explain-callback-url.js";
import { explainToken } from "./explain-token.js";
import type { ExplainContext, Explanation } from "./explanation.js";

/**
 * Recognises a token, a callback URL or an authorization URL and explains it, offline.
 *
 * @throws cli.unrecognised
 */
export async function explain(context: ExplainContext, pasted: string): Promise<Explanation> {
  const text = clean(pasted);
  const url = asUrl(text);
  if (url) {
    const has = (...names: readonly string[]) => names.some((name) => url.searchParams.has(name));
    if (has("response_type") || (has("client_id") && has("redirect_uri")))
      return explainAuthorizationUrl(context, url);
    if (has("code", "error", "state", "iss")) return explainCallbackUrl(context, url);
  } else if (/^[^\s.]+(\.[^\s.]*)+$/.test(text)) {
    return explainToken(context, text);
  }
  throw new ProblemError("cli.unrecognised", { received: describe(text, url) });
}

/** Without the quotes, line breaks and header name that come along when something is copied. */
function clean(pasted: string): string {
  const text = pasted.trim().replace(/^(["'`])(.*)\1$/s, "$2");
  const bare = text.replace(/^authorization:\s*/i, "").replace(/^bearer\s+/i, "");
  return bare.replace(/\s*\n\s*/g, "");
}

/** An absolute URL, a path with a query, or a query alone. */
function asUrl(text: string): URL | undefined {
  if (/^https?:\/\//i.test(text)) return URL.canParse(text) ? new URL(text) : undefined;
  if (/^[/?]/.test(text)) return new URL(text, "http://pasted.invalid");
  return undefined;
}

function describe(text: string, url: URL | undefined): string {
  if (url) return "a URL without parameters of a sign-in";
  return text === ""
    ? "nothing"
    : `${text.length} characters that are neither a URL nor parts joined by dots`;
}
