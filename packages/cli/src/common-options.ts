import type { Command } from "commander";
import { createPlatform, type Platform } from "tenonsaw";
import { createCertifiedFetch } from "tenonsaw/node";
import { readTextFile } from "./files.js";

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

/** What counts beside another option only is refused without it, rather than left out: it was meant. */
export function onlyWith(command: Command, needed: Readonly<Record<string, readonly string[]>>): Command {
  const flagsOf = (name: string) =>
    command.options.find((option) => option.attributeName() === name)?.flags ?? name;
  return command.hook("preAction", () => {
    for (const [name, others] of Object.entries(needed))
      if (
        command.getOptionValueSource(name) === "cli" &&
        others.every((other) => command.getOptionValue(other) === undefined)
      )
        command.error(
          `error: option '${flagsOf(name)}' counts only with ${others.map((other) => `'${flagsOf(other)}'`).join(" or ")}`,
        );
  });
}

export interface CertificateOptions {
  readonly certificate?: string;
  readonly certificateKey?: string;
}

/** The options of commands that speak to a provider which may want to see a certificate. */
export function withCertificateOptions(command: Command): Command {
  command
    .option(
      "--certificate <file>",
      "PEM: the app's certificate, where the provider knows it by that (RFC 8705)",
    )
    .option("--certificate-key <file>", "PEM: its private key (default: in the same file)");
  return onlyWith(command, { certificateKey: ["certificate"] });
}

/** This machine, with the certificate that was named, if any. */
export function platformWith({ certificate, certificateKey }: CertificateOptions): Platform {
  if (certificate === undefined) return createPlatform();
  const pem = readTextFile(certificate);
  const key = certificateKey === undefined ? pem : readTextFile(certificateKey);
  return createPlatform({ fetch: createCertifiedFetch({ certificate: pem, key }) });
}
