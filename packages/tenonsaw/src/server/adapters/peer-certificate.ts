import type { Socket } from "node:net";
import { TLSSocket } from "node:tls";

/** The certificate that whoever is at the other end has shown, DER; undefined without TLS, and where none was shown. */
export function certificateOf(socket: Socket): Uint8Array | undefined {
  if (!(socket instanceof TLSSocket)) return undefined;
  const { raw } = socket.getPeerCertificate() as { readonly raw?: Uint8Array };
  return raw;
}
