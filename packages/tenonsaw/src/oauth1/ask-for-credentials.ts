import { fail, quoted } from "../problem/index.js";
import { requireAvailable, sendLeg, type Answer } from "../trace/index.js";
import type { OAuth1Provider } from "./open-oauth1-provider.js";
import { signOAuth1Request, type OAuth1Token } from "./sign-oauth1-request.js";
import type { Parameters } from "./signature.js";

/** Credentials as a provider gives them out, and what came along. */
export interface GivenCredentials extends OAuth1Token {
  readonly further: Readonly<Record<string, string>>;
}

/**
 * Asks for temporary credentials or token credentials: RFC 5849 sections 2.1 and 2.3.
 *
 * @throws oauth1.credentials-refused, oauth1.answer-refused, grant.unavailable, platform.*
 */
export async function askForCredentials(
  provider: OAuth1Provider,
  leg: "temporary credentials request" | "token credentials request",
  url: string,
  credentials: OAuth1Token | undefined,
  further: Parameters,
): Promise<GivenCredentials> {
  const { tools, timeoutSeconds } = provider;
  const request = { method: "POST", url, headers: new Headers() };
  const signed = await signOAuth1Request(provider, credentials, request, further);
  const authorization = signed.headers.get("authorization");
  const answer = await sendLeg(tools, {
    station: "oauth1",
    leg,
    url: signed.url,
    headers: { accept: "*/*", ...(authorization !== null && { authorization }) },
    form: new URLSearchParams(typeof signed.body === "string" ? signed.body : ""),
    timeoutSeconds,
  });
  await requireAvailable(tools, leg, answer, "grant.unavailable");
  if (answer.status !== 200) refuse(provider, leg, answer, credentials !== undefined);
  return readCredentials(leg, answer);
}

/** By so many seconds most providers let a timestamp differ. */
const usualTolerance = 300;

/** RFC 5849 has no error codes: what the provider says is repeated, and its clock compared with ours. */
function refuse(
  { tools }: OAuth1Provider,
  leg: string,
  { status, headers, text }: Answer,
  isSecond: boolean,
): never {
  const there = Date.parse(headers.get("date") ?? "") / 1000;
  const difference = Math.round(there - tools.platform.now());
  // 3.3: a timestamp of another time is refused, and hardly any provider says so.
  const clock =
    Math.abs(difference) > 60
      ? `; your clock is ${Math.abs(difference)} s ${difference > 0 ? "behind" : "ahead of"} the provider's`
      : "";
  const said = text.trim() === "" ? "nothing more" : quoted(text, 200);
  fail("oauth1.credentials-refused", {
    received: `${leg}: status ${status}, ${said}${clock}`,
    because: [404, 405, 410].includes(status)
      ? "not-there"
      : Math.abs(difference) > usualTolerance
        ? "clock"
        : isSecond
          ? "second"
          : undefined,
  });
}

function readCredentials(leg: string, { text, headers }: Answer): GivenCredentials {
  const members = new URLSearchParams(text);
  const [tokens, secrets] = [members.getAll("oauth_token"), members.getAll("oauth_token_secret")];
  const [token = ""] = tokens;
  const [tokenSecret = ""] = secrets;
  if (tokens.length !== 1 || secrets.length !== 1 || token === "") {
    const kind = headers.get("content-type") ?? "no content type";
    fail("oauth1.answer-refused", {
      received: `${leg}: ${quoted(kind)}, ${tokens.length} oauth_token, ${secrets.length} oauth_token_secret`,
    });
  }
  members.delete("oauth_token");
  members.delete("oauth_token_secret");
  return { token, tokenSecret, further: Object.fromEntries(members) };
}
