import { createRequire } from "node:module";
import { Command, CommanderError } from "commander";
import pc from "picocolors";
import { isProblem, ProblemError, problemText } from "tenonsaw";
import { guardTerminal, shownInTerminal } from "./terminal.js";

/** Only the command that is asked for is loaded; all of them where they have to be listed or guessed at. */
const commands: Readonly<Record<string, () => Promise<Command>>> = {
  init: async () => (await import("./init-command.js")).initCommand(),
  sheet: async () => (await import("./sheet-command.js")).sheetCommand(),
  check: async () => (await import("./check-command.js")).checkCommand(),
  try: async () => (await import("./try-command.js")).tryCommand(),
  call: async () => (await import("./call-command.js")).callCommand(),
  explain: async () => (await import("./explain-command.js")).explainCommand(),
  connections: async () => (await import("./connections-command.js")).connectionsCommand(),
  sessions: async () => (await import("./sessions-command.js")).sessionsCommand(),
  migrate: async () => (await import("./migrate-command.js")).migrateCommand(),
  keys: async () => (await import("./keys-command.js")).keysCommand(),
  practice: async () => (await import("./practice-command.js")).practiceCommand(),
};

// Whoever reads only the beginning, such as `head`, has closed the pipe: that is no failure.
process.stdout.on("error", (error: NodeJS.ErrnoException) => {
  if (error.code !== "EPIPE") throw error;
  process.exit();
});

const { version } = createRequire(import.meta.url)("tenonsaw/package.json") as { version: string };

const program = new Command("tenonsaw")
  .description("Third-party sign-in and delegated API access, practised and explained.")
  .version(version)
  .addHelpText(
    "after",
    "\nExit codes: 0 all well, 1 something is wrong, 2 the command could not be carried out.",
  );

/** What the shell completes are the words of all others. */
const completion = async () => {
  const { completionCommand } = await import("./completion-command.js");
  return completionCommand(await Promise.all(Object.values(commands).map((load) => load())));
};

const isJson = process.argv.includes("--json");
guardTerminal(isJson);

const asked = process.argv[2] ?? "";
const all = { ...commands, completion };
for (const [name, load] of Object.entries(all))
  if (name === asked || !Object.hasOwn(all, asked)) program.addCommand(quiet((await load()).exitOverride()));
quiet(program).exitOverride();

/** An ID may begin with a dash, as an option does: it goes to the end, behind what says that there are no more options. */
function withDashedId(argv: readonly string[]): readonly string[] {
  const id = argv[4] ?? "";
  const hasIds = ["sessions", "connections"].includes(asked);
  if (!hasIds || !id.startsWith("-") || /^(-h|--[a-z]+(-[a-z]+)*(=.*)?)$/.test(id)) return argv;
  return [...argv.slice(0, 4), ...argv.slice(5), "--", id];
}

/** What is wrong with the words of a command is told as JSON where that was asked for, and by nothing else. */
function quiet(command: Command): Command {
  return command.configureOutput(
    isJson ? { writeErr: () => undefined } : { outputError: (message, write) => write(shortened(message)) },
  );
}

/** A token or a key may begin with a dash: it is not repeated, and it is said how it can be handed over. */
function shortened(message: string): string {
  const [, option = ""] = /unknown option '(.*)'/s.exec(message) ?? [];
  if (option.length <= 24) return message;
  return `error: unknown option '${option.slice(0, 8)}…'. What begins with a dash goes behind --, or comes by standard input.\n`;
}

try {
  await program.parseAsync(withDashedId(process.argv));
} catch (error) {
  // --help and --version arrive here too, with exit code 0.
  if (error instanceof CommanderError) {
    process.exitCode = error.exitCode === 0 ? 0 : 2;
    if (isJson && error.exitCode !== 0) {
      const { problem } = new ProblemError("cli.usage", { received: shortened(error.message).trim() });
      console.error(JSON.stringify(problem, undefined, 2));
    }
  } else if (isProblem(error)) {
    console.error(
      shownInTerminal(
        isJson ? JSON.stringify(error.problem, undefined, 2) : pc.red(problemText(error.problem)),
        isJson,
      ),
    );
    process.exitCode = 2;
  } else throw error;
}
