import { Command, InvalidArgumentError } from "commander";
import pc from "picocolors";
import {
  defaultClient,
  PortInUseError,
  rehearsals,
  startPractice,
  type Client,
  type Practice,
  type RehearsalName,
} from "tenonsaw-practice";

interface PracticeCommandOptions {
  readonly port: number;
  readonly redirectUri: readonly string[];
  readonly rehearse?: RehearsalName;
  readonly launchUrl: readonly string[];
  readonly pageOrigin: readonly string[];
  readonly accessTokenSeconds: number;
  readonly list?: true;
  readonly json?: true;
}

export function practiceCommand(): Command {
  return new Command("practice")
    .description(
      "Start providers and APIs to practise with: Quayside ID, Harbour Union, Lockgate Permits, Old Wharf Archive, Ledgerhouse, Boathouse Clinic, Tidebook, Slipway.",
    )
    .option(
      "--port <number>",
      "port of Quayside ID; Tidebook, Harbour Union, Lockgate Permits, Slipway, Old Wharf Archive, Ledgerhouse with its sandbox and Boathouse Clinic take the next eight",
      readPort,
      4600,
    )
    .option("--redirect-uri <uri>", "a redirect URI to register (may be repeated)", collect, [])
    .option(
      "--page-origin <origin>",
      "an origin whose pages may ask across origins, and are the public client `page` (may be repeated)",
      collect,
      [],
    )
    .option(
      "--launch-url <url>",
      "where Boathouse Clinic opens an app, the client `rowers-health` (may be repeated)",
      collect,
      [],
    )
    .option("--access-token-seconds <number>", "lifetime of access tokens", readSeconds, 30)
    .option("--rehearse <fault>", "play a fault; --list has them all", readRehearsal)
    .option("--list", "list the faults that can be rehearsed, and end")
    .option("--json", "print for scripts: one line of JSON when ready")
    .addHelpText(
      "after",
      "\nExample:\n  tenonsaw practice --redirect-uri http://localhost:3000/sign-in/from/quayside --rehearse nonce-wrong",
    )
    .action(run);
}

async function run(options: PracticeCommandOptions): Promise<void> {
  if (options.list) {
    console.log(options.json ? JSON.stringify(rehearsals) : listRehearsals());
    return;
  }
  try {
    await practise(options);
  } catch (error) {
    if (!(error instanceof PortInUseError)) throw error;
    console.error(`${error.message}\nFor example: tenonsaw practice --port ${options.port + 100}`);
    process.exitCode = 2;
  }
}

async function practise({
  port,
  redirectUri,
  pageOrigin,
  launchUrl,
  rehearse,
  accessTokenSeconds,
  json,
}: PracticeCommandOptions): Promise<void> {
  const returns = redirectUri.map((uri) => new URL("../out/done", uri).href);
  const origins = pageOrigin.map((url) => new URL(url).origin);
  const atOrigins = origins.map((origin) => `${origin}/`);
  const practice = await startPractice({
    ports: {
      quayside: port,
      tidebook: port + 1,
      harbour: port + 2,
      lockgate: port + 3,
      slipway: port + 4,
      archive: port + 5,
      ledger: port + 6,
      ledgerSandbox: port + 7,
      clinic: port + 8,
    },
    lifetimes: { accessTokenSeconds },
    pageOrigins: origins,
    clients: [
      {
        ...defaultClient,
        redirectUris: [...defaultClient.redirectUris, ...redirectUri],
        postLogoutRedirectUris: [...defaultClient.postLogoutRedirectUris, ...returns],
      },
      ...(origins.length > 0 ? [publicClient(atOrigins)] : []),
      ...launchUrl.map(launchedClient),
    ],
    ...(rehearse && { rehearsal: rehearse }),
    ...(!json && { log: (line) => console.log(`${pc.dim(new Date().toLocaleTimeString("en-GB"))} ${line}`) }),
  });
  const end = () => void practice.stop();
  process.once("SIGINT", end);
  process.once("SIGTERM", end);
  console.log(json ? describeJson(practice) : describe(practice, rehearse, atOrigins, launchUrl));
}

/** An app that the clinic opens; a second one has a number. */
function launchedClient(launchUrl: string, index: number): Client {
  return {
    clientId: index === 0 ? "rowers-health" : `rowers-health-${index + 1}`,
    clientSecret: "only-for-practice",
    title: index === 0 ? "Rowers' health" : `Rowers' health ${index + 1}`,
    redirectUris: [new URL("from/boathouse", launchUrl).href],
    postLogoutRedirectUris: [],
    launchUrl,
  };
}

/** A page keeps no secret. */
function publicClient(at: readonly string[]): Client {
  return { clientId: "page", title: "A page", redirectUris: at, postLogoutRedirectUris: at };
}

function describeJson({ issuer, tidebook, clinic, ward, client }: Practice): string {
  return JSON.stringify({
    issuer,
    tidebook,
    clinic,
    ward,
    clientId: client.clientId,
    clientSecret: client.clientSecret,
  });
}

function describe(
  practice: Practice,
  rehearsal: string | undefined,
  pages: readonly string[],
  launchUrls: readonly string[],
): string {
  const { issuer, tidebook, harbour, lockgate, slipway, archive, ledger, ledgerSandbox, clinic, ward } =
    practice;
  const { client, people } = practice;
  const launched =
    launchUrls.length === 0
      ? "opens apps that --launch-url names"
      : `opens client ID rowers-health, secret only-for-practice, at ${launchUrls.join(", ")}`;
  const page =
    pages.length === 0 ? "" : `\n  pages          client ID page, no secret, at ${pages.join(", ")}`;
  return `
  ${pc.bold("Quayside ID")}    issuer ${pc.cyan(issuer)}
  ${pc.bold("Tidebook")}       origin ${pc.cyan(tidebook)}, scope tides.read
  ${pc.bold("Harbour Union")}  issuer ${pc.cyan(`${harbour}/{organisation}`)}
  ${pc.bold("Lockgate")}       ${pc.cyan(lockgate)}, plain OAuth 2.0
  ${pc.bold("Old Wharf")}      ${pc.cyan(archive)}, OAuth 1.0a, with an API of boxes
  ${pc.bold("Ledgerhouse")}    ${pc.cyan(ledger)}, plain OAuth 2.0 with companies; its sandbox ${pc.cyan(ledgerSandbox)}
  ${pc.bold("Clinic")}         ward ${pc.cyan(ward)}, records ${pc.cyan(clinic)}
                 ${launched}
  ${pc.bold("Slipway")}        origin ${pc.cyan(slipway)}, scope slipway.status, for machines

  client ID      ${client.clientId}
  client secret  ${client.clientSecret ?? "(none)"}   (for practice only)
  redirect URIs  ${client.redirectUris.join("\n                 ")}${page}
  people         ${people.map(({ name }) => name).join(", ")}
  rehearsing     ${rehearsal ?? "nothing; see tenonsaw practice --list"}

  ${pc.dim("Ctrl-C ends it.")}
`;
}

function listRehearsals(): string {
  const width = Math.max(...rehearsals.map(({ name }) => name.length));
  return rehearsals
    .map(({ name, about, ending }) => `${pc.bold(name.padEnd(width))}  ${about} ${pc.dim(`→ ${ending}`)}`)
    .join("\n");
}

function readRehearsal(text: string): RehearsalName {
  const names = rehearsals.map(({ name }) => name);
  const found = names.find((name) => name === text);
  if (found) return found;
  const words = text.split("-").filter((word) => word.length > 3);
  const like = names.filter((name) => words.some((word) => name.includes(word))).slice(0, 5);
  const hint = like.length === 0 ? "" : `There are ${like.join(", ")}. `;
  throw new InvalidArgumentError(`${hint}tenonsaw practice --list has all there are.`);
}

function collect(value: string, before: readonly string[]): readonly string[] {
  if (!URL.canParse(value)) throw new InvalidArgumentError("It takes an absolute URL.");
  return [...before, value];
}

function readPort(text: string): number {
  const port = Number(text);
  if (!Number.isInteger(port) || port < 1024 || port > 65_527) {
    throw new InvalidArgumentError("It takes a whole number from 1024 to 65527.");
  }
  return port;
}

function readSeconds(text: string): number {
  const seconds = Number(text);
  if (!Number.isInteger(seconds) || seconds < 1)
    throw new InvalidArgumentError("It takes a whole number from 1.");
  return seconds;
}
