/** A certificate and its private key, PEM. */
export interface Certified {
  readonly certificate: string;
  readonly key: string;
}

/** Issues certificates that nobody but this practice trusts. */
export interface CertificateAuthority {
  /** The authority's own certificate, PEM. */
  readonly certificate: string;
  /** @param commonName host name of a server, or name of a client */
  issue(commonName: string): Promise<Certified>;
}

export async function createAuthority(): Promise<CertificateAuthority> {
  const { generate } = await import("selfsigned");
  const own = await generate([{ name: "commonName", value: "Practice certificates" }], {
    keyType: "ec",
    algorithm: "sha256",
    extensions: [
      { name: "basicConstraints", cA: true, critical: true },
      { name: "keyUsage", keyCertSign: true, digitalSignature: true, critical: true },
    ],
  });
  return {
    certificate: own.cert,
    issue: (commonName) => createCertificate(commonName, { key: own.private, cert: own.cert }),
  };
}

/** A certificate of an authority, or, without one, a self-signed one. */
export async function createCertificate(
  commonName: string,
  ca?: { readonly key: string; readonly cert: string },
): Promise<Certified> {
  const { generate } = await import("selfsigned"); // loaded by those only who want certificates
  const made = await generate([{ name: "commonName", value: commonName }], {
    keyType: "ec",
    algorithm: "sha256",
    ...(ca && { ca }),
    extensions: [
      { name: "basicConstraints", cA: false, critical: true },
      { name: "subjectAltName", altNames: [{ type: 2, value: commonName }] },
    ],
  });
  return { certificate: made.cert, key: made.private };
}
