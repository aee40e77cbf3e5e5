import type { CauseOf } from "../problem/index.js";
import { innermost } from "./unanswered.js";

const codes: Readonly<Record<string, CauseOf<"platform.unreachable">>> = {
  ECONNREFUSED: "nobody-listens",
  ENOTFOUND: "name-unknown",
  EAI_AGAIN: "name-unknown",
  ECONNRESET: "cut-off",
  EPIPE: "cut-off",
  ETIMEDOUT: "no-way",
  UND_ERR_CONNECT_TIMEOUT: "no-way",
  EHOSTUNREACH: "no-way",
  ENETUNREACH: "no-way",
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
  // What a parser of HTTP says of what it cannot read.
  if (code?.startsWith("HPE_")) return "not-http";
  if (code !== undefined) return codes[code];
  // What Node's own fetch says, in words alone.
  if (inner instanceof Error && inner.message === "bad port") return "port-blocked";
  return "location" in globalThis ? "page" : undefined;
}
