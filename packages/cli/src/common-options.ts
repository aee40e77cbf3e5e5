import { readFileSync } from "node:fs";
import type { Command } from "commander";
import { createPlatform, ProblemError, type Platform } from "tenonsaw";
import { createCertifiedFetch } from "tenonsaw/node";

export interface CommonOptions {
  readonly settings: string;
  readonly env?: string;
  readonly json?: true;
}

/** The options of every command that works on a settings file. */
export function withCommonOptions(command: Command): Command {
  return command
    .option("--settings <file>", "the settings file", "tenonsaw.config.json")
    .option(
      "--env <name>",
      "which of the settings' environments (default: TENONSAW_ENV, then the file's own choice)",
    )
    .option("--json", "print for scripts");
}

export interface CertificateOptions {
  readonly certificate?: string;
  readonly certificateKey?: string;
}

/** The options of commands that speak to a provider which may want to see a certificate. */
export function withCertificateOptions(command: Command): Command {
  return command
    .option(
      "--certificate <file>",
      "PEM: the app's certificate, where the provider knows it by that (RFC 8705)",
    )
    .option("--certificate-key <file>", "PEM: its private key (default: in the same file)");
}

/** This machine, with the certificate that was named, if any. */
export function platformWith({ certificate, certificateKey }: CertificateOptions): Platform {
  if (certificate === undefined) return createPlatform();
  const pem = readPem(certificate);
  const key = certificateKey === undefined ? pem : readPem(certificateKey);
  return createPlatform({ fetch: createCertifiedFetch({ certificate: pem, key }) });
}

function readPem(file: string): string {
  try {
    return readFileSync(file, "utf8");
  } catch (error) {
    const { code = "unreadable" } = error as NodeJS.ErrnoException;
    throw new ProblemError("cli.file-unreadable", { received: `${file}: ${code}` });
  }
}
