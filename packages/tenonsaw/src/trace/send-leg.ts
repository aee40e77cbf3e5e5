import { isSecureUrl } from "../platform/index.js";
import { fail, isProblem, quoted, type CauseOf } from "../problem/index.js";
import { heeding } from "./heeding.js";
import { methodOf, type Answer, type Leg } from "./leg.js";
import { redactUrl } from "./redacted.js";
import type { Tools } from "./tools.js";
import { innermost, unansweredBy } from "./unanswered.js";

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
  const send = async (): Promise<Answer> => {
    leg.mayStart?.();
    const response = await tools.platform.fetch(leg.url, {
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
    const { type, status, redirected } = response;
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
        received: `${placeOf(leg)}: nothing within ${leg.timeoutSeconds} s`,
        cause: error,
      });
    }
    fail("platform.unreachable", {
      received: `${placeOf(leg)}: ${unansweredBy(error)}`,
      because: unreachableBecause(error),
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

const codes: Readonly<Record<string, CauseOf<"platform.unreachable">>> = {
  ECONNREFUSED: "nobody-listens",
  ENOTFOUND: "name-unknown",
  EAI_AGAIN: "name-unknown",
  ECONNRESET: "cut-off",
  EPIPE: "cut-off",
  UND_ERR_SOCKET: "cut-off",
  DEPTH_ZERO_SELF_SIGNED_CERT: "certificate-untrusted",
  SELF_SIGNED_CERT_IN_CHAIN: "certificate-untrusted",
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: "certificate-untrusted",
  UNABLE_TO_GET_ISSUER_CERT: "certificate-untrusted",
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: "certificate-untrusted",
  CERT_HAS_EXPIRED: "certificate-expired",
  CERT_NOT_YET_VALID: "certificate-expired",
  ERR_TLS_CERT_ALTNAME_INVALID: "certificate-name",
  ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED: "certificate-wanted",
  ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE: "certificate-wanted",
  EPROTO: "not-tls",
  ERR_SSL_WRONG_VERSION_NUMBER: "not-tls",
  ERR_SSL_PACKET_LENGTH_TOO_LONG: "not-tls",
};

/**
 * Which cause of `platform.unreachable` a failed connection comes from, by the code of the innermost error. A page's `fetch`
 * says no more than that it failed (Fetch Standard, 5.6): neither which nor why.
 */
export function unreachableBecause(error: unknown): CauseOf<"platform.unreachable"> | undefined {
  const { inner, code } = innermost(error);
  if (code !== undefined) return codes[code];
  // What Node's own fetch says, in words alone.
  if (inner instanceof Error && inner.message === "bad port") return "port-blocked";
  return "location" in globalThis ? "page" : undefined;
}
