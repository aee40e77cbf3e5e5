import { isSecureUrl } from "../platform/index.js";
import { fail, isProblem, quoted, type CauseOf } from "../problem/index.js";
import { heeding } from "./heeding.js";
import { methodOf, type Answer, type Leg } from "./leg.js";
import { redactUrl } from "./redacted.js";
import type { Tools } from "./tools.js";
import { requireFetched, unansweredBy } from "./unanswered.js";

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
  if (!isSecureUrl(leg.url)) fail("platform.insecure-url", { received: `${leg.leg}: ${quoted(leg.url)}` });
  // Where somebody follows it.
  const tell = tools.trace && (await import("./tell-leg.js")).tellLeg;
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
    return { status, headers: response.headers, text: await readBounded(response, leg) };
  };
  try {
    return await heeding(signal, send());
  } catch (error) {
    if (isProblem(error)) throw error;
    if (signal.aborted) {
      fail("platform.too-slow", {
        received: `${placeOf(leg)}: ${begun ?? "nothing"} within ${leg.timeoutSeconds} s`,
        because: begun === undefined ? undefined : "unfinished",
        cause: error,
      });
    }
    fail("platform.unreachable", {
      received: `${placeOf(leg)}: ${unansweredBy(error)}`,
      because: await unreachableBecause(error),
      cause: error,
    });
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

/** Which cause of `platform.unreachable` a failed connection comes from; what tells that is loaded where one fails. */
export async function unreachableBecause(
  error: unknown,
): Promise<CauseOf<"platform.unreachable"> | undefined> {
  // Where nothing can be loaded any more, it is not told.
  const why = await import("./unreachable.js").catch(() => undefined);
  return why?.unreachableBecause(error);
}
