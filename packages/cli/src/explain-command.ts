import { text } from "node:stream/consumers";
import { Command } from "commander";
import pc from "picocolors";
import { createPlatform } from "tenonsaw";
import { explain } from "./explain/explain.js";
import { isFine } from "./explain/explanation.js";
import { renderExplanation } from "./explain/render.js";
import { readSettingsFile } from "tenonsaw/server/node";

interface ExplainOptions {
  readonly for?: string;
  readonly env?: string;
  readonly json?: true;
}

export function explainCommand(): Command {
  return new Command("explain")
    .description("Say what something means and what is wrong with it. Works offline.")
    .argument("[thing]", "what to explain, in quotes; without it, standard input is read")
    .option("--for <settings file>", "say whether it would be accepted with these settings, and why not")
    .option("--env <name>", "which of the settings' environments")
    .option("--json", "print for scripts")
    .addHelpText(
      "after",
      `
What it knows: tokens (ID, access and logout tokens, DPoP proofs), callback and authorization URLs, token, error and
registration answers, WWW-Authenticate headers, problem codes, and two addresses side by side.

Examples:
  tenonsaw explain 'http://localhost:5173/back http://localhost:5173/back/'
  tenonsaw explain identity.nonce-mismatch
  tenonsaw explain 'http://localhost:5173/sign-in/from/quayside?error=access_denied&state=x'
  tenonsaw explain --for tenonsaw.config.json < token.txt

A token given as an argument stays in the shell's history; standard input leaves no trace.
Exit code: 0 nothing wrong, 1 something is wrong with it or it would be refused, 2 it cannot be explained.`,
    )
    .action(run);
}

async function run(thing: string | undefined, options: ExplainOptions): Promise<void> {
  const settings =
    options.for === undefined ? undefined : readSettingsFile(options.for, options.env).settings;
  const pasted = thing === undefined || thing === "-" ? await text(process.stdin) : thing;
  const explanation = await explain({ platform: createPlatform(), settings }, pasted);
  console.log(
    options.json
      ? JSON.stringify(explanation, undefined, 2)
      : renderExplanation(explanation, process.stdout.columns || 100, pc),
  );
  process.exitCode = isFine(explanation) ? 0 : 1;
}
