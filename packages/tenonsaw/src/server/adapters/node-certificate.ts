import { Agent } from "node:https";
import { createSecureContext } from "node:tls";
import type { Platform } from "../../platform/index.js";
import { fail, quoted } from "../../problem/index.js";
import { errorOf, requireFit } from "../../trace/index.js";
import { exchange } from "./piped-fetch.js";

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
export function createCertifiedFetch(given: ClientCertificate): Platform["fetch"] {
  requireFit(given, (each) => typeof each === "object", "a certificate and its key: { certificate, key }");
  const { certificate, key, authorities, origins } = given;
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
    return exchange(agent, url, init);
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
