import { once } from "node:events";
import { Agent, request as sendPlain, type IncomingMessage } from "node:http";
import { Agent as SecureAgent, request as sendSecure } from "node:https";
import { pipeline, Readable, type Transform } from "node:stream";
import { pipeline as sendThrough } from "node:stream/promises";
import type { ReadableStream as NodeStream } from "node:stream/web";
import { createBrotliDecompress, createGunzip } from "node:zlib";
import type { Platform } from "../../platform/index.js";
import { errorOf } from "../../trace/index.js";
import { bodyFrom } from "./piped.js";

/**
 * A fetch for Node over node:http and node:https, for the platform of an app whose pages call much through the relay:
 * `createPlatform({ fetch: createPipedFetch() })`. What an API answers is piped on as it comes, without a stream of the web's
 * in between. It follows no redirect; bodies stream both ways.
 */
export function createPipedFetch(): Platform["fetch"] {
  const plain = new Agent({ keepAlive: true });
  const secure = new SecureAgent({ keepAlive: true });
  return (url, init) => exchange(url.startsWith("http:") ? plain : secure, url, init);
}

/** Sends a request by this agent, which is one for the scheme of its address, and brings back the answer's beginning. */
export async function exchange(agent: Agent, url: string, init: RequestInit): Promise<Response> {
  const { method = "GET", body } = init;
  if (body === undefined || body === null) {
    const headers = init.headers instanceof Headers ? init.headers : new Headers(init.headers);
    return answerOf(method, await sendBare(agent, url, method, headers, init.signal ?? undefined));
  }
  // The platform's own reading of what a body is, and of the headers that go with it.
  const request = new Request(url, init);
  const outgoing = begin(agent, url, method, request.headers, request.signal);
  const answered = once(outgoing, "response") as Promise<[IncomingMessage]>;
  // What goes wrong with it later, whoever reads the answer learns.
  outgoing.on("error", () => undefined);
  // What is all there has its length told.
  const sending =
    body instanceof ReadableStream
      ? sendThrough(Readable.fromWeb(request.body as NodeStream), outgoing)
      : request.arrayBuffer().then((whole) => void outgoing.end(Buffer.from(whole)));
  // A body that breaks off is why, and not that the connection ended for it.
  const [incoming] = await Promise.race([answered, sending.then(() => answered)]);
  return answerOf(method, incoming);
}

function begin(agent: Agent, url: string, method: string, headers: Headers, signal?: AbortSignal) {
  const send = agent instanceof SecureAgent ? sendSecure : sendPlain;
  const outgoing = send(url, {
    agent,
    method,
    // RFC 9110 section 14.2: a part is one of the content as it is coded, and of coded content nothing can be made.
    headers: {
      accept: "*/*",
      "accept-encoding": headers.has("range") ? "identity" : codings,
      ...Object.fromEntries(headers),
    },
  });
  // Section 7.8: nobody has asked for another protocol, and its answer has no end.
  outgoing.once("upgrade", (_incoming, socket) => {
    socket.destroy();
    outgoing.emit("error", new Error("status 101, and no other protocol was asked for"));
  });
  const end = () => outgoing.destroy(errorOf(signal?.reason));
  signal?.addEventListener("abort", end);
  outgoing.once("close", () => signal?.removeEventListener("abort", end));
  if (signal?.aborted) end();
  return outgoing;
}

/** Of what may be sent twice (RFC 9110 section 9.2.2). */
const isRepeatable = (method: string) => /^(?:get|head|options|put|delete)$/i.test(method);

/** What may be sent twice is, where a connection that was kept had been closed at its other end meanwhile. */
async function sendBare(
  agent: Agent,
  url: string,
  method: string,
  headers: Headers,
  signal: AbortSignal | undefined,
): Promise<IncomingMessage> {
  const outgoing = begin(agent, url, method, headers, signal).end();
  return new Promise((resolve, reject) => {
    let isAnswered = false;
    outgoing.once("response", (incoming) => {
      isAnswered = true;
      resolve(incoming);
    });
    outgoing.on("error", (error: NodeJS.ErrnoException) => {
      // Whoever reads the answer learns of it.
      if (isAnswered) return;
      const isStale = outgoing.reusedSocket && error.code === "ECONNRESET" && signal?.aborted !== true;
      if (!isStale || !isRepeatable(method)) reject(error);
      else sendBare(agent, url, method, headers, signal).then(resolve, reject);
    });
  });
}

/** How content may be encoded (RFC 9110 section 8.4.1), and what undoes it. */
const decoders: ReadonlyMap<string, () => Transform> = new Map([
  ["gzip", createGunzip],
  ["br", createBrotliDecompress],
]);
const codings = [...decoders.keys()].join(", ");
/** As many as `fetch` takes off. */
const mostCodings = 5;

function answerOf(method: string, incoming: IncomingMessage): Response {
  const { statusCode: status = 502, rawHeaders } = incoming;
  const headers = new Headers();
  for (let index = 0; index < rawHeaders.length; index += 2)
    headers.append(rawHeaders[index] ?? "", rawHeaders[index + 1] ?? "");
  // As fetch has it: a status that is none of HTTP's is told as it is, though no Response can be made with it.
  const fit = status <= 599 ? status : 502;
  const isBodiless = method === "HEAD" || bodiless.has(fit) || incoming.headers["content-length"] === "0";
  if (isBodiless) incoming.resume();
  const response = new Response(isBodiless ? null : bodyFrom(contentOf(incoming)), { status: fit, headers });
  return fit === status ? response : Object.defineProperty(response, "status", { value: status });
}

/** Answers that have no body: RFC 9110 sections 15.3.5, 15.3.6 and 15.4.5. */
const bodiless: ReadonlySet<number> = new Set([204, 205, 304]);

function contentOf(incoming: IncomingMessage): Readable {
  const coded = (incoming.headers["content-encoding"] ?? "").toLowerCase().split(/[\s,]+/, mostCodings);
  // The last one was put on last. What breaks off on the way here breaks off for whoever reads on.
  return coded.reduceRight<Readable>((content, coding) => {
    const decoder = decoders.get(coding)?.();
    return decoder ? pipeline(content, decoder, () => undefined) : content;
  }, incoming);
}
