import { createHash, X509Certificate } from "node:crypto";
import type { TLSSocket } from "node:tls";

/** The certificate that a client showed when it connected. */
export interface PeerCertificate {
  /** SHA-256, base64url: `x5t#S256` (RFC 8705 section 3.1). */
  readonly thumbprint: string;
  readonly commonName: string;
  /** Whether the practice's own authority issued it. */
  readonly isTrusted: boolean;
}

const certificates = new WeakMap<Request, PeerCertificate>();

export function notePeerCertificate(request: Request, socket: TLSSocket): void {
  const { raw, subject } = socket.getPeerCertificate() as Partial<
    ReturnType<TLSSocket["getPeerCertificate"]>
  >;
  if (!raw) return;
  certificates.set(request, {
    thumbprint: hash(raw),
    commonName: String(subject?.CN ?? ""),
    isTrusted: socket.authorized,
  });
}

export function peerCertificate(request: Request): PeerCertificate | undefined {
  return certificates.get(request);
}

export function thumbprintOf(certificate: string): string {
  return hash(new X509Certificate(certificate).raw);
}

function hash(raw: Uint8Array): string {
  return createHash("sha256").update(raw).digest("base64url");
}
