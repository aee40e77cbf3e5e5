import type { Command } from "commander";

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
