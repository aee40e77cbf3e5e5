import { createServer, type RequestListener, type Server } from "node:http";
import { createServer as createSecureServer } from "node:https";
import type { AddressInfo } from "node:net";
import type { SecureContextOptions, TLSSocket } from "node:tls";
import { getRequestListener } from "@hono/node-server";
import { notePeerCertificate } from "./peer-certificate.js";

/** A port was taken. */
export class PortInUseError extends Error {
  override readonly name = "PortInUseError";
  readonly port: number;

  constructor(port: number, cause: unknown) {
    super(`Port ${port} is in use. End the program that uses it, or choose another port.`, { cause });
    this.port = port;
  }
}

const keepOpenSeconds = 65;

export interface Served {
  readonly port: number;
  stop(): Promise<void>;
}

/**
 * Serves on loopback only, over TLS where `secure` is given, and then asks for a client certificate. Port 0 takes a free
 * one.
 * `stop` cuts what is still open.
 */
export async function serve(
  port: number,
  fetch: (request: Request) => Response | Promise<Response>,
  secure?: SecureContextOptions,
  host = "localhost",
): Promise<Served> {
  const listener = getRequestListener(
    (request, { incoming }) => {
      // What every browser asks for by itself.
      if (request.url.endsWith("/favicon.ico")) return new Response(null, { status: 204 });
      if (secure) notePeerCertificate(request, incoming.socket as TLSSocket);
      return fetch(request);
    },
    { overrideGlobalObjects: false },
  );
  const answer: RequestListener = (incoming, outgoing) => void listener(incoming, outgoing);
  const server = secure
    ? createSecureServer({ ...secure, requestCert: true, rejectUnauthorized: false }, answer)
    : createServer(answer);
  // Whoever stands still for a while finds the connection open, and not just being closed.
  server.keepAliveTimeout = keepOpenSeconds * 1000;
  await listen(server, port, host);
  return {
    port: (server.address() as AddressInfo).port,
    stop: () =>
      new Promise((resolve) => {
        server.close(() => {
          resolve();
        });
        server.closeAllConnections();
      }),
  };
}

function listen(server: Server, port: number, host: string): Promise<void> {
  return new Promise((resolve, reject) => {
    server.once("error", (error: NodeJS.ErrnoException) => {
      reject(error.code === "EADDRINUSE" ? new PortInUseError(port, error) : error);
    });
    // "localhost" is what the addresses say; where it resolves to is the machine's own business.
    server.listen({ port, host, backlog: 2048 }, resolve);
  });
}
