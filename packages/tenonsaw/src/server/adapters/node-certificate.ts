import { once } from "node:events";
import type { IncomingMessage } from "node:http";
import { Agent, request as sendRequest } from "node:https";
import { pipeline, Readable, type Transform } from "node:stream";
import { pipeline as sendThrough } from "node:stream/promises";
import type { ReadableStream as NodeStream } from "node:stream/web";
import { createBrotliDecompress, createGunzip } from "node:zlib";
import { createSecureContext } from "node:tls";
import type { Platform } from "../../platform/index.js";
import { fail, quoted } from "../../problem/index.js";
import { errorOf, requireFit } from "../../trace/index.js";

/** A certificate and its key, and whom they are shown to. */
export interface ClientCertificate {
  /** The certificate with its chain, PEM. */
  readonly certificate: string;
  /** Its private key, PEM. */
  readonly key: string;
  /** Certificates to trust in place of the system's, PEM. */
  readonly authorities?: string;
  /** Where the certificate is presented. Default: at every https origin that asks for one. */
  readonly origins?: readonly string[];
}

/**
 * A fetch for Node that presents a client certificate (RFC 8705), for the platform of `createSignIn` or `openProvider`:
 * `createPlatform({ fetch: createCertifiedFetch({ certificate, key, origins }) })`. It follows no redirect; bodies stream
 * both ways; every other request goes the usual way.
 *
 * @throws server.unfit-argument for what is no certificate with its key
 */
export function createCertifiedFetch({
  certificate,
  key,
  authorities,
  origins,
}: ClientCertificate): Platform["fetch"] {
  requirePair({ certificate, key, authorities });
  const agent = new Agent({
    cert: certificate,
    key,
    keepAlive: true,
    ...(authorities !== undefined && { ca: authorities }),
  });
  return async (url, init) => {
    const { origin, protocol } = new URL(url);
    if (protocol !== "https:" || origins?.includes(origin) === false) return fetch(url, init);
    // The platform's own reading of what a body is, and of the headers that go with it.
    const request = new Request(url, init);
    const isStream = init.body instanceof ReadableStream;
    return exchange(agent, request, isStream ? undefined : Buffer.from(await request.arrayBuffer()));
  };
}

/**
 * Told now: with the first connection it would be one more server that cannot be reached.
 *
 * @throws server.unfit-argument
 */
function requirePair({ certificate, key, authorities }: Readonly<Record<string, unknown>>): void {
  const isPem = (given: unknown): given is string =>
    typeof given === "string" && given.includes("-----BEGIN ");
  const pem = (name: string, given: unknown) =>
    requireFit(given, isPem, `\`${name}\` as PEM, which is the text of a file and not its path`) as string;
  const pair = { cert: pem("certificate", certificate), key: pem("key", key) };
  if (authorities !== undefined) pem("authorities", authorities);
  try {
    createSecureContext(pair);
  } catch (error) {
    fail("server.unfit-argument", {
      received: quoted(errorOf(error).message, 100),
      expected: "a certificate and the private key that belongs to it, both PEM",
      cause: error,
    });
  }
}

/** @param whole the body, where it is all there: only then is its length told */
async function exchange(agent: Agent, request: Request, whole: Buffer | undefined): Promise<Response> {
  const { url, method, signal } = request;
  const headers = {
    "accept-encoding": [...decoders.keys()].join(", "),
    ...Object.fromEntries(request.headers),
  };
  const outgoing = sendRequest(url, { agent, method, headers, signal });
  const answered = once(outgoing, "response") as Promise<[IncomingMessage]>;
  // What goes wrong with it later, whoever reads the answer learns.
  outgoing.on("error", () => undefined);
  const sending = whole
    ? Promise.resolve(void outgoing.end(whole))
    : sendThrough(Readable.fromWeb(request.body as NodeStream), outgoing);
  // A body that breaks off is why, and not that the connection ended for it.
  const [incoming] = await Promise.race([answered, sending.then(() => answered)]);
  return answerOf(method, incoming);
}

/** How content may be encoded (RFC 9110 section 8.4.1), and what undoes it. */
const decoders: ReadonlyMap<string, () => Transform> = new Map([
  ["gzip", createGunzip],
  ["br", createBrotliDecompress],
]);

function answerOf(method: string, incoming: IncomingMessage): Response {
  const { statusCode: status = 502, rawHeaders } = incoming;
  const headers = new Headers();
  for (let index = 0; index < rawHeaders.length; index += 2)
    headers.append(rawHeaders[index] ?? "", rawHeaders[index + 1] ?? "");
  // As fetch has it: a status that is none of HTTP's is told as it is, though no Response can be made with it.
  const fit = status <= 599 ? status : 502;
  const isBodiless = method === "HEAD" || bodiless.has(fit) || incoming.headers["content-length"] === "0";
  if (isBodiless) incoming.resume();
  const response = new Response(isBodiless ? null : contentOf(incoming), { status: fit, headers });
  return fit === status ? response : Object.defineProperty(response, "status", { value: status });
}

/** Answers that have no body: RFC 9110 sections 15.3.5, 15.3.6 and 15.4.5. */
const bodiless: ReadonlySet<number> = new Set([204, 205, 304]);

function contentOf(incoming: IncomingMessage): BodyInit {
  const decoder = decoders.get(incoming.headers["content-encoding"]?.toLowerCase() ?? "")?.();
  // What breaks off on the way here breaks off for whoever reads on.
  const content = decoder ? pipeline(incoming, decoder, () => undefined) : incoming;
  return Readable.toWeb(content) as BodyInit;
}
