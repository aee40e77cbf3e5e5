import { base64urlFromBytes, type Bytes } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { check, shapeOf, type Tools } from "../trace/index.js";

/**
 * Whether the call came with the certificate that its token is bound to: RFC 8705 sections 3 and 3.1.
 *
 * @param certificate DER
 * @throws guard.certificate-missing, guard.binding-mismatch, server.hook-unusable
 */
export async function requireCertificate(
  tools: Tools,
  certificate: unknown,
  expected: string,
): Promise<void> {
  if (certificate === undefined || certificate === null)
    fail("guard.certificate-missing", { received: "no certificate" });
  if (!ArrayBuffer.isView(certificate))
    fail("server.hook-unusable", {
      received: `\`certificateOf\` answered ${shapeOf(certificate)}`,
      expected: "the bytes of a certificate (DER), or undefined",
    });
  const digest = await tools.platform.crypto.digest("SHA-256", certificate as Bytes);
  const thumbprint = base64urlFromBytes(digest);
  check(tools, "guard.binding-mismatch", thumbprint === expected, () => ({
    received: `a certificate with the thumbprint ${quoted(thumbprint)}`,
    expected: `one with ${quoted(expected)}`,
  }));
}
