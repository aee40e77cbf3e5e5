import { parseUrl } from "../../platform/index.js";
import type { IncomingMessage, ServerResponse } from "node:http";
import { finished, type Readable } from "node:stream";
import { createRequest, sendResponse } from "@remix-run/node-fetch-server";
import { fail, quoted } from "../../problem/index.js";
import { errorOf, noteBodyRead, requireFit, requireResponse } from "../../trace/index.js";
import { takeSource } from "./piped.js";
import { noteOriginal, notePeer } from "../door/public-origin.js";

/** A request as node:http has it, and as frameworks on top of it add to it. */
export interface Incoming extends IncomingMessage {
  /** The whole address, where a framework has taken the beginning off `url`. */
  readonly originalUrl?: string;
  /** What a body parser has made of the body. */
  readonly body?: unknown;
}

/** Those of the web have headers that are asked. */
const isIncoming = ({ headers }: Incoming) => typeof headers === "object" && !("get" in headers);
const isOutgoing = (given: ServerResponse) => typeof given.writeHead === "function";

interface RequestParts {
  readonly takeBody?: boolean;
  readonly body?: unknown;
  readonly original?: unknown;
}

/**
 * A request of node:http as one of the web's. Its body is left to whoever comes after, unless it is asked for; where a
 * body parser has read it already, it is made anew from what the parser says of it.
 *
 * @param options `takeBody` hands the body over; `body` is what a parser made of it, where that is not at `incoming.body`;
 *   `original` is what a framework calls the request, for `personOf`, where that is not `incoming`
 * @throws server.request-unreadable, server.unfit-argument
 */
export function toRequest(
  incoming: Incoming,
  outgoing: ServerResponse,
  { takeBody = false, ...parts }: RequestParts = {},
): Request {
  requireFit(incoming, isIncoming, "a request of node:http");
  requireFit(outgoing, isOutgoing, "its response of node:http");
  const { body = incoming.body, original = incoming } = parts;
  const { method = "GET" } = incoming;
  const hasBody = takeBody && method !== "GET" && method !== "HEAD";
  const made =
    hasBody && incoming.readableDidRead ? bodyAgain(body, incoming.headers["content-type"]) : undefined;
  const request = readable(incoming, () => {
    if (hasBody && made === undefined) return createRequest(incoming, outgoing);
    if (method === "GET") return createRequest(incoming, outgoing);
    // What describes the request without touching its body: to the bridge it is a GET.
    const head = Object.create(incoming, { method: { value: "GET" } }) as IncomingMessage;
    const bare = createRequest(head, outgoing);
    return new Request(bare, { method, ...(made !== undefined && { body: made }) });
  });
  notePeer(request, incoming.socket.remoteAddress);
  noteOriginal(request, original);
  if (made === null) noteBodyRead(request);
  return request;
}

/** @throws server.request-unreadable */
function readable(incoming: Incoming, read: () => Request): Request {
  const { url = "/", originalUrl = url } = incoming;
  // RFC 9112 section 3.2: an absolute form is for proxies, and its host is not the one that counts.
  const absolute = originalUrl.startsWith("/") ? undefined : parseUrl(originalUrl);
  const path = absolute
    ? absolute.pathname + absolute.search
    : originalUrl.startsWith("/")
      ? originalUrl
      : "/";
  const refuse = (cause?: unknown): never =>
    fail("server.request-unreadable", {
      received: `${incoming.method ?? ""} ${quoted(originalUrl, 60)}, Host ${quoted(incoming.headers.host ?? "", 60)}`,
      cause,
    });
  // RFC 9112 section 3.2 and RFC 9110 section 7.2: a host and a port; with anything more another address would be read.
  const { host } = incoming.headers;
  if (host !== undefined && !/^[^\s/?#@\\]*$/.test(host)) return refuse();
  try {
    incoming.url = path;
    return read();
  } catch (error) {
    return refuse(error);
  } finally {
    incoming.url = url;
  }
}

/** The form that a body parser has read, as it was sent; null where that cannot be told. */
function bodyAgain(body: unknown, type = ""): string | Uint8Array<ArrayBuffer> | null {
  if (typeof body === "string" || body instanceof Uint8Array) return body as string | Uint8Array<ArrayBuffer>;
  // Whatever else it was, it is not to go on as something that it was not.
  if (typeof body !== "object" || body === null || !/^application\/x-www-form-urlencoded\b/i.test(type))
    return null;
  const form = new URLSearchParams();
  return addFields(form, Object.entries(body), 0) ? form.toString() : null;
}

/** Parsers nest no deeper. */
const deepest = 32;

/** What a parser has made of names such as `a[b]` gets them back. @returns false for what no form has said */
function addFields(
  form: URLSearchParams,
  fields: readonly (readonly [string, unknown])[],
  depth: number,
): boolean {
  return fields.every(([name, value]) => {
    if (typeof value === "string") {
      form.append(name, value);
      return true;
    }
    if (typeof value !== "object" || value === null || depth > deepest) return false;
    const isList = Array.isArray(value) && value.every((each) => typeof each === "string");
    const inner = Object.entries(value).map(
      ([key, each]) => [isList ? name : `${name}[${key}]`, each] as const,
    );
    return addFields(form, inner, depth + 1);
  });
}

/**
 * Sends a response of the web's by node:http: streamed, with every cookie, and given up when the browser has gone.
 *
 * @throws server.not-a-response, server.unfit-argument; server.answer-cut where its body breaks off; the connection is closed then
 */
export async function writeResponse(outgoing: ServerResponse, response: Response): Promise<void> {
  requireFit(outgoing, isOutgoing, "a response of node:http");
  requireResponse(response);
  if (outgoing.destroyed) {
    await response.body?.cancel();
    return;
  }
  outgoing.once("finish", () => {
    // Whoever was refused for what they send, and sends on, has had the time to read why.
    if ([408, 413].includes(outgoing.statusCode) && !outgoing.req.complete)
      setTimeout(() => outgoing.req.socket.destroy(), partingMilliseconds).unref();
  });
  try {
    const source = outgoing.req.method === "HEAD" ? undefined : takeSource(response.body);
    await (source ? pipeOn(outgoing, response, source) : sendResponse(outgoing, response));
  } catch (error) {
    // What breaks off on the way breaks off here too: a page that is cut is not to look whole.
    if (!outgoing.headersSent) throw error;
    const hasGone = outgoing.closed;
    outgoing.destroy();
    if (hasGone) return;
    const { name, message } = errorOf(error);
    fail("server.answer-cut", { received: quoted(`${name}: ${message}`, 200), cause: error });
  }
}

const partingMilliseconds = 100;

/** As it comes, until the one or the other end has gone. */
async function pipeOn(
  outgoing: ServerResponse,
  { status, headers }: Response,
  source: Readable,
): Promise<void> {
  outgoing.writeHead(status, { ...Object.fromEntries(headers), "set-cookie": headers.getSetCookie() });
  await new Promise<void>((resolve, reject) => {
    outgoing.once("close", () => {
      source.destroy();
      resolve();
    });
    finished(source, (error) => (error ? reject(error) : resolve()));
    source.pipe(outgoing);
  });
}
