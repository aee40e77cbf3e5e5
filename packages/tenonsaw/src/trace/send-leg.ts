import { isSecureUrl, isUrl } from "../platform/index.js";
import { fail, isProblem, quoted, type CauseOf } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { heeding } from "./heeding.js";
import { methodOf, type Answer, type Leg } from "./leg.js";
import { redactUrl } from "./redacted.js";
import type { Tools } from "./tools.js";
import { requireFetched, unansweredBy } from "./unanswered.js";
import { unreachableBecause } from "./why-unreachable.js";

/** No answer this library reads is anywhere near 1 MiB. */
const largestAnswerBytes = 1024 * 1024;

/**
 * Sends one request and reads its whole answer: over https (or loopback), within the deadline and the size limit,
 * never following a redirect.
 *
 * @throws platform.insecure-url, platform.unreachable, platform.too-slow, platform.answer-too-large,
 *   platform.redirected
 */
export async function sendLeg(tools: Tools, leg: Leg): Promise<Answer> {
  if (!isSecureUrl(leg.url))
    fail("platform.insecure-url", {
      received: `${leg.leg}: ${quoted(leg.url)}`,
      because: isUrl(leg.url) ? undefined : "no-address",
    });
  // Where somebody follows it.
  const tell = tools.trace && (await loadPart(import("./tell-leg.js"))).tellLeg;
  const startedAt = tools.platform.now();
  try {
    const answer = await exchange(tools, leg);
    await tell?.(tools, leg, startedAt, answer);
    return answer;
  } catch (error) {
    await tell?.(tools, leg, startedAt);
    throw error;
  }
}

async function exchange(tools: Tools, leg: Leg): Promise<Answer> {
  const signal = tools.platform.deadline(leg.timeoutSeconds);
  let begun: string | undefined;
  const send = async (): Promise<Answer> => {
    leg.mayStart?.();
    const fetched = await tools.platform.fetch(leg.url, {
      method: methodOf(leg),
      headers: {
        accept: "application/json",
        ...(leg.form && { "content-type": "application/x-www-form-urlencoded" }),
        ...(leg.json && { "content-type": "application/json" }),
        ...leg.headers,
      },
      ...(leg.form && { body: leg.form.toString() }),
      ...(leg.json && { body: JSON.stringify(leg.json) }),
      redirect: "manual",
      signal,
    });
    const response = requireFetched(fetched);
    const { type, status, redirected } = response;
    begun = `an answer with status ${status} that did not end`;
    if (type === "opaqueredirect" || redirected || (status >= 300 && status < 400)) {
      await response.body?.cancel();
      const target = redirected ? response.url : response.headers.get("location");
      fail("platform.redirected", {
        received: `${placeOf(leg)}: status ${status}${target === null ? "" : ` to ${quoted(await redactUrl(tools.platform, target))}`}`,
      });
    }
    const answer = { status, headers: response.headers, text: await readBounded(response, leg) };
    // An error, whatever its status says; a token that was granted again may be the one that was sent.
    if (status < 400 && !/"error"\s*:|(?:^|&)error=/.test(answer.text)) return answer;
    const { withoutSent } = await loadPart(import("./without-sent.js"));
    return withoutSent(leg, answer);
  };
  try {
    return await heeding(signal, send());
  } catch (error) {
    if (isProblem(error)) throw error;
    const because = await unreachableBecause(error, tools.platform, leg.url);
    const late = signal.aborted && `${begun ?? "nothing"} within ${leg.timeoutSeconds} s`;
    const detail = { received: `${placeOf(leg)}: ${late || unansweredBy(error)}`, cause: error };
    // What gets through no proxy is silent as well.
    if (late && (begun !== undefined || !because?.startsWith("proxy")))
      fail("platform.too-slow", { ...detail, because: begun === undefined ? undefined : "unfinished" });
    fail("platform.unreachable", { ...detail, because });
  }
}

/** What came in place of JSON, where that can be told. */
export function describeBody({ headers, text }: Answer): {
  readonly kind: string;
  readonly because: CauseOf<"platform.not-json"> | undefined;
} {
  const kind = headers.get("content-type");
  const isPage = kind?.startsWith("text/html") === true || /^\s*<(!doctype|html)/i.test(text);
  return {
    kind: kind === null ? "no content type" : quoted(kind),
    because: isPage ? "page" : text.trim() === "" ? "empty" : undefined,
  };
}

/** Reads the body as UTF-8 and gives up as soon as it grows past the limit. */
async function readBounded(response: Response, leg: Leg): Promise<string> {
  if (!response.body) return "";
  const decoder = new TextDecoder();
  const reader = response.body.getReader();
  let text = "";
  let length = 0;
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return text + decoder.decode();
    length += value.byteLength;
    if (length > largestAnswerBytes) {
      await reader.cancel();
      fail("platform.answer-too-large", {
        received: `${placeOf(leg)}: more than ${largestAnswerBytes} bytes`,
      });
    }
    text += decoder.decode(value, { stream: true });
  }
}

const placeOf = (leg: Leg) => `${leg.leg} to ${new URL(leg.url).origin}`;
