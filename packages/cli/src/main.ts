import { createRequire } from "node:module";
import { Command, CommanderError } from "commander";
import pc from "picocolors";
import { isProblem, problemText } from "tenonsaw";
import { callCommand } from "./call-command.js";
import { checkCommand } from "./check-command.js";
import { explainCommand } from "./explain-command.js";
import { keysCommand } from "./keys-command.js";
import { practiceCommand } from "./practice-command.js";
import { sheetCommand } from "./sheet-command.js";
import { tryCommand } from "./try-command.js";

const { version } = createRequire(import.meta.url)("../package.json") as { version: string };

const program = new Command("tenonsaw")
  .description("Third-party sign-in and delegated API access, practised and explained.")
  .version(version)
  .addHelpText(
    "after",
    "\nExit codes: 0 all well, 1 something is wrong, 2 the command could not be carried out.",
  );

for (const command of [
  sheetCommand(),
  checkCommand(),
  tryCommand(),
  callCommand(),
  explainCommand(),
  keysCommand(),
  practiceCommand(),
]) {
  program.addCommand(command.exitOverride());
}
program.exitOverride();

try {
  await program.parseAsync();
} catch (error) {
  // --help and --version arrive here too, with exit code 0.
  if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? 0 : 2;
  else if (isProblem(error)) {
    console.error(
      process.argv.includes("--json")
        ? JSON.stringify(error.problem, undefined, 2)
        : pc.red(problemText(error.problem)),
    );
    process.exitCode = 2;
  } else throw error;
}
