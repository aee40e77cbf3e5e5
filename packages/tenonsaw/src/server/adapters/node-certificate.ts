import { Agent, request as sendRequest } from "node:https";
import { Readable } from "node:stream";
import type { ReadableStream as NodeStream } from "node:stream/web";
import type { Platform } from "../../platform/index.js";

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

/** Answers that have no body: RFC 9110 sections 15.3.5, 15.3.6 and 15.4.5. */
const bodiless: ReadonlySet<number> = new Set([204, 205, 304]);

/**
 * A fetch for Node that presents a client certificate (RFC 8705), for the platform of `createSignIn` or `openProvider`:
 * `createPlatform({ fetch: createCertifiedFetch({ certificate, key, origins }) })`. It follows no redirect; every other
 * request goes the usual way.
 */
export function createCertifiedFetch({
  certificate,
  key,
  authorities,
  origins,
}: ClientCertificate): Platform["fetch"] {
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
    const body = request.body === null ? undefined : Buffer.from(await request.arrayBuffer());
    return exchange(agent, url, request, body);
  };
}

function exchange(agent: Agent, url: string, request: Request, body: Buffer | undefined): Promise<Response> {
  const { method, headers, signal } = request;
  return new Promise((resolve, reject) => {
    const outgoing = sendRequest(
      url,
      { agent, method, headers: Object.fromEntries(headers), signal },
      (incoming) => {
        const received = new Headers();
        for (let index = 0; index < incoming.rawHeaders.length; index += 2)
          received.append(incoming.rawHeaders[index] ?? "", incoming.rawHeaders[index + 1] ?? "");
        const status = incoming.statusCode ?? 502;
        if (bodiless.has(status)) incoming.resume();
        const stream = bodiless.has(status) ? null : (Readable.toWeb(incoming) as NodeStream<Uint8Array>);
        resolve(new Response(stream as BodyInit | null, { status, headers: received }));
      },
    );
    outgoing.on("error", reject);
    outgoing.end(body);
  });
}
