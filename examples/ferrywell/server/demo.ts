import { mkdir, rm } from "node:fs/promises";
import { randomBytes } from "node:crypto";
import { Command, InvalidArgumentError, Option } from "commander";
import pc from "picocolors";
import {
  defaultClient,
  PortInUseError,
  rehearsals,
  startPractice,
  type RehearsalName,
} from "tenonsaw-practice";
import { isProblem, problemText } from "tenonsaw/problem";
import { serveByProcesses } from "./balance.js";
import { findStore, StoreMissingError } from "./find-store.js";
import { registration, serveFerrywell } from "./serve-ferrywell.js";
import { serveTidebook } from "./serve-tidebook.js";

interface DemoOptions {
  readonly processes: number;
  readonly store: string;
  readonly port?: number;
  readonly rehearse?: RehearsalName;
}

const command = new Command("npm run demo --")
  .description("Starts the practice providers, Tidebook and Ferrywell on this machine.")
  .option(
    "--port <number>",
    "use this port and the next eight instead of 5173, 4600, 4700, 4800, 4900, 4950, 4970, 4980 and 4990",
    readPort,
  )
  .option("--processes <number>", "run so many processes of Ferrywell behind a balancer", readCount, 1)
  .option("--store <place>", "sqlite, redis, postgres, or a URL of one", "sqlite")
  .addOption(new Option("--rehearse <fault>", "play a fault").choices(rehearsals.map(({ name }) => name)))
  .addHelpText(
    "after",
    "\nExamples:\n  npm run demo -- --port 7000 --rehearse nonce-wrong\n  npm run demo -- --processes 4 --store redis",
  )
  .parse();

try {
  await run(command.opts<DemoOptions>());
} catch (error) {
  if (isProblem(error)) {
    console.error(`${pc.red("The demo did not start.")} ${problemText(error.problem)}`);
    process.exit(1);
  }
  if (error instanceof StoreMissingError) {
    console.error(`${pc.red("The demo did not start.")} ${error.message}`);
    process.exit(1);
  }
  if (!(error instanceof PortInUseError)) throw error;
  console.error(`${pc.red("The demo did not start.")} Port ${error.port} is in use.`);
  console.error("End the program that uses it, or move the demo:\n\n  npm run demo -- --port 7000\n");
  console.error("That takes the ports 7000 to 7008.");
  process.exitCode = 1;
}

async function run({ port, rehearse, processes, store }: DemoOptions): Promise<void> {
  const { place: database, stop: stopStore } = await findStore(store, ".demo/ferrywell.db");
  const history = ".demo/history.db";
  const ports =
    port === undefined
      ? [5173, 4600, 4700, 4800, 4900, 4950, 4970, 4980, 4990]
      : [0, 1, 2, 3, 4, 5, 6, 7, 8].map((next) => port + next);
  const [ferrywellPort = 0, quayside = 0, tidebook = 0, harbour = 0, lockgate = 0, ...more] = ports;
  const [slipway = 0, archive = 0, ledger = 0, ledgerSandbox = 0] = more;
  const origin = `http://localhost:${ferrywellPort}`;
  // Each start begins with an empty database and new keys: the practice provider has forgotten everybody, too.
  await rm(".demo", { recursive: true, force: true });
  await mkdir(".demo", { mode: 0o700 });
  process.env["FERRYWELL_KEYS"] = randomBytes(32).toString("base64url");
  process.env["QUAYSIDE_SECRET"] = defaultClient.clientSecret;

  const log = (line: string) => {
    console.log(`${pc.dim(new Date().toLocaleTimeString("en-GB"))} ${line}`);
  };
  const practice = await startPractice({
    ports: { quayside, tidebook, harbour, lockgate, slipway, archive, ledger, ledgerSandbox },
    clients: [registration(origin)],
    withoutTidebook: true,
    ...(rehearse && { rehearsal: rehearse }),
  }).catch(async (error: unknown) => {
    await stopStore();
    throw error;
  });
  const guarded = await serveTidebook(tidebook, practice.issuer, log).catch(async (error: unknown) => {
    await practice.stop();
    await stopStore();
    throw error;
  });
  const stopPractice = async () => {
    await guarded.stop();
    await practice.stop();
    await stopStore();
  };
  const serving =
    processes === 1
      ? serveFerrywell(ferrywellPort, { practice, database, history, log })
      : serveByProcesses(ferrywellPort, processes, { practice, database, history });
  const ferrywell = await serving.catch(async (error: unknown) => {
    await stopPractice();
    throw error;
  });

  let isEnding = false;
  const end = async () => {
    if (isEnding) return;
    isEnding = true;
    await ferrywell.stop();
    await stopPractice();
    console.log("\n  Ended. Nothing is left running.");
  };
  process.on("SIGINT", () => void end());
  process.on("SIGTERM", () => void end());

  console.log(`
  ${pc.bold("Ferrywell")}     ${pc.cyan(ferrywell.origin)}   the example app: open this one${processes === 1 ? "" : `; ${processes} processes in turn`}
  ${pc.bold("Quayside ID")}   ${pc.cyan(practice.issuer)}   the practice provider
  ${pc.bold("Tidebook")}      ${pc.cyan(practice.tidebook)}   an API behind a guard; what it refused is at /guard/refusals
  ${pc.bold("Harbour Union")} ${pc.cyan(practice.harbour)}   a provider for many organisations
  ${pc.bold("Lockgate")}      ${pc.cyan(practice.lockgate)}   plain OAuth 2.0, odd in several ways
  ${pc.bold("Old Wharf")}     ${pc.cyan(practice.archive)}   OAuth 1.0a, with an API of boxes
  ${pc.bold("Ledgerhouse")}   ${pc.cyan(practice.ledger)}   accounts with companies, to connect

  What to try
    1. Sign in with Quayside ID: pick a made-up member, allow what Ferrywell asks.
    2. Open Tides. Access tokens live 30 seconds here; wait, read again, and watch it refresh silently.
    3. Open History, and ask forty times at once: one renewal, whichever process does it.
    4. Open Slots: booking takes one scope more, which you are asked for; only Ib, the harbour master, may take one back.
    5. Open Books: connect a company at Ledgerhouse, then a second one; ask for more; sign out and in: it is still there.
    6. Open a second tab, sign out in the first, and look at the second; then press the back button.
    7. Sign in again and press "No, not now".
    8. Look into the store: ${inspection(database)}
${rehearse === undefined ? "" : `\n  ${pc.yellow("Rehearsing")} ${rehearse}\n`}
  ${pc.dim("Ctrl-C ends it. What happens is told below, one line per leg.")}
`);
}

function inspection(place: string): string {
  if (place.startsWith("redis")) return `redis-cli -u ${place} keys '{tenonsaw}:*'`;
  if (place.startsWith("postgres")) return `psql ${place} -c "SELECT * FROM tenonsaw.people"`;
  return `sqlite3 ${place} "SELECT * FROM people"`;
}

function readCount(text: string): number {
  const count = Number(text);
  if (!Number.isInteger(count) || count < 1 || count > 16)
    throw new InvalidArgumentError("It takes a whole number from 1 to 16.");
  return count;
}

function readPort(text: string): number {
  const port = Number(text);
  // Nine ports in a row are needed, and those below 1024 belong to the system.
  if (!Number.isInteger(port) || port < 1024 || port > 65_527) {
    throw new InvalidArgumentError("It takes a whole number from 1024 to 65527.");
  }
  return port;
}
