import { ProblemError } from "tenonsaw";
import { parseJsonObject } from "tenonsaw/jose";
import { catalogue, quotedList } from "tenonsaw/problem";
import { explainAnswer } from "./explain-answer.js";
import { explainAuthorizationUrl } from "./explain-authorization-url.js";
import { explainCallbackUrl } from "./explain-callback-url.js";
import { explainChallenge } from "./explain-challenge.js";
import { credentials, explainCredentials } from "./explain-credentials.js";
import { explainErrorCode, isErrorCode } from "./explain-error-code.js";
import { explainJson } from "./explain-json.js";
import { explainOpaque } from "./explain-opaque.js";
import { explainPair } from "./explain-pair.js";
import { explainProblem, isProblemCode } from "./explain-problem.js";
import { explainScopes, isScopes } from "./explain-scopes.js";
import { explainTrace } from "./explain-trace.js";
import { explainToken } from "./explain-token.js";
import type { ExplainContext, Explanation, Finding } from "./explanation.js";
import { errorMeanings, tokenErrorMeanings } from "./meanings.js";
import { unwrap } from "./unwrap.js";

const errorCodes = [...Object.keys(errorMeanings), ...Object.keys(tokenErrorMeanings)];

/**
 * Recognises what was pasted and explains it, offline: a token, a callback or authorization URL, a token, error or
 * registration answer, keys, metadata or claims, a challenge, a problem (by its code, or as a log has it) or error code, two
 * addresses side by side; also out of an HTTP message, a header line or a command for curl. What was taken off on the way is a finding.
 *
 * @throws cli.unrecognised; jose.not-json and jose.duplicate-member for what only looks like an answer
 */
export async function explain(context: ExplainContext, pasted: string): Promise<Explanation> {
  const { text, mended } = unwrap(pasted);
  const { explanation, taken = [] } = await recognise(context, text);
  const all = [...mended, ...taken];
  if (all.length === 0) return explanation;
  const mending: Finding = {
    verdict: "careful",
    message: `Taken off what was pasted: ${all.join(", ")}. Where your app takes it for a part of it, that is the mistake.`,
  };
  return { ...explanation, findings: [...explanation.findings, mending] };
}

interface Recognised {
  readonly explanation: Explanation;
  /** What was taken off for it. */
  readonly taken?: readonly string[];
}

async function recognise(context: ExplainContext, text: string): Promise<Recognised> {
  const [first = "", second = "", ...more] = text.split(/\s+/);
  if (more.length === 0 && isAddress(first) && isAddress(second))
    return { explanation: explainPair(first, second) };
  if (isScopes(text)) return { explanation: explainScopes(text) };
  const url = asUrl(text);
  if (url) {
    const answer = url.hash.includes("=") ? fragmentOf(url) : url;
    const has = (...names: readonly string[]) => names.some((name) => answer.searchParams.has(name));
    if (has("response_type") || (has("client_id") && has("redirect_uri")))
      return { explanation: await explainAuthorizationUrl(context, answer) };
    if (has("code", "error", "state", "iss", "access_token", "id_token"))
      return { explanation: await explainCallbackUrl(context, answer) };
  } else if (text.startsWith("{")) {
    const answer = parseJsonObject(text, "the pasted text");
    if (answer["kind"] === "trace") return { explanation: explainTrace(answer) };
    if (["access_token", "error", "client_id"].some((name) => name in answer))
      return { explanation: await explainAnswer(context, answer) };
    const found = (await explainJson(context.platform, answer)) ?? problemIn(text);
    if (found) return { explanation: found };
    throw new ProblemError("cli.unrecognised", {
      received: `a JSON object with ${quotedList(Object.keys(answer)) ?? "no members"}`,
      here: "It is nothing that a provider answers: paste the answer itself, whole.",
    });
  } else if (isProblemCode(text)) return { explanation: explainProblem(text) };
  else if (isErrorCode(text)) return { explanation: explainErrorCode(text) };
  else if (credentials.test(text)) return { explanation: await explainCredentials(context, text) };
  else if (/^(bearer|dpop|basic)\b/i.test(text) && !/^(bearer|dpop)\s+[\w+/~.-]{16,}=*$/is.test(text))
    return { explanation: explainChallenge(text) };
  else {
    const told = problemIn(text);
    if (told) return { explanation: told };
    const bare = text.replace(/^(bearer|dpop)\s+/i, "");
    const token = bare.replaceAll(/\s/g, "");
    const taken = [
      ...(bare === text ? [] : ["the scheme before it"]),
      ...(token === bare ? [] : ["spaces or line breaks in it"]),
    ];
    if (isLikeToken(bare) && !isLikeProblemCode(token))
      return { explanation: await explainToken(context, token), taken };
    if (/^[\w+/~=-]{16,}$/.test(bare)) return { explanation: await explainOpaque(context, bare), taken };
  }
  throw new ProblemError("cli.unrecognised", { received: describe(text, url), ...hintFor(text) });
}

function isAddress(text: string): boolean {
  return /^https?:\/\//i.test(text) && URL.canParse(text);
}

/** An absolute URL, a path with a query, or a query or fragment alone, with its mark or without. */
function asUrl(text: string): URL | undefined {
  if (isAddress(text)) return new URL(text.replaceAll(/\s/g, ""));
  if (/^[/?#]/.test(text)) return new URL(text, "http://pasted.invalid");
  if (/^[\w.]+=[^\s=]*(&|$)/.test(text)) return new URL(`?${text}`, "http://pasted.invalid");
  return undefined;
}

/** The parameters behind the #, where an answer came in them. */
function fragmentOf(url: URL): URL {
  const moved = new URL(url);
  moved.search = url.hash.slice(1);
  moved.hash = "";
  return moved;
}

/** Parts joined by dots, of what base64 has; in lines where it is a long one, and in words only where it says what it is. */
function isLikeToken(text: string): boolean {
  const lines = text.split(/\s+/);
  const isWhole = lines.length === 1 || text.startsWith("eyJ") || lines.slice(0, -1).every(isLong);
  return isWhole && /^[\w+/=%~-]+(\.[\w+/=%~-]*)+$/.test(lines.join(""));
}

const isLong = (line: string) => line.length >= 16;

/** The first problem of the catalogue that a line of the log, a page or a problem's own data names. */
function problemIn(text: string): Explanation | undefined {
  const code = [...(text.match(/\b[a-z0-9]+\.[a-z0-9-]+/g) ?? [])].find(isProblemCode);
  return code === undefined ? undefined : explainProblem(code);
}

/** Something with one dot, in small letters: a problem's code rather than a token. */
function isLikeProblemCode(text: string): boolean {
  return /^[a-z0-9]+\.[a-z-]+$/.test(text) && text.length < 50;
}

const wordsForNothing = /^(undefined|null|NaN|\[object \w+\])$/;

/** What it is that cannot be explained, where that can be told, and what to paste in its place. */
function hintFor(text: string): { readonly received?: string; readonly here?: string } {
  if (wordsForNothing.test(text))
    return {
      received: `the word ${text}`,
      here: "That is what a variable without a value becomes in a text: see why it has none.",
    };
  if (text.startsWith("<"))
    return {
      received: "a web page, or XML",
      here: "Where it came in place of JSON, the address is that of a page for people, a log-in or a gateway. SAML is not spoken here.",
    };
  if (text.startsWith("-----BEGIN"))
    return {
      received: "a key or a certificate in PEM",
      here: "Keys go into the settings as JSON Web Keys (tenonsaw keys). Where it is a private one and has been shown, make another.",
    };
  if (fileName.test(text))
    return {
      received: "a file's name",
      here: `What is in a file comes by standard input: tenonsaw explain < ${text}`,
    };
  return nearCodes(text);
}

const fileName = /^[\w./\\~-]+\.(?:txt|json|jwt|log|html?|pem|har)$/i;

/** Two letters at a time: what of them two names share tells a slip from another name. */
const pairsOf = (name: string) =>
  new Set(Array.from({ length: name.length - 1 }, (_, index) => name.slice(index, index + 2)));

/** Codes that share most with what was written, where it looks like one. */
function nearCodes(text: string): { readonly here?: string } {
  if (!isLikeProblemCode(text) && !/^[a-z]+[_-][a-z_-]+$/.test(text)) return {};
  const own = pairsOf(text);
  const near = [...Object.keys(catalogue), ...errorCodes]
    .map((code) => {
      const pairs = [...pairsOf(code)];
      const shared = pairs.filter((pair) => own.has(pair)).length;
      return { code, share: (2 * shared) / (pairs.length + own.size) };
    })
    .filter(({ share }) => share > 0.3)
    .sort((left, right) => right.share - left.share)
    .slice(0, 3);
  if (near.length === 0) return {};
  return { here: `Did you mean ${near.map(({ code }) => code).join(", ")}?` };
}

function describe(text: string, url: URL | undefined): string {
  if (url) return "a URL without parameters of a sign-in";
  return text === ""
    ? "nothing"
    : `${text.length} characters that are neither a URL nor parts joined by dots`;
}
