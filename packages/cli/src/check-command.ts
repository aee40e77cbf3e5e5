import { text } from "node:stream/consumers";
import { Command, Option } from "commander";
import pc from "picocolors";
import { ProblemError } from "tenonsaw";
import { readSettingsFile } from "tenonsaw/node";
import type { ChosenSettings } from "tenonsaw/server";
import type { ApiAtHand } from "./check/api-trials.js";
import { checkApi } from "./check/check-api.js";
import { readTextFile } from "./files.js";
import { addressAt, findApi } from "./find-api.js";
import { checkOnline } from "./check/check-online.js";
import { checkSamples } from "./check/check-samples.js";
import { checkSettings } from "./check/check-settings.js";
import type { CheckFinding } from "./check/finding.js";
import { renderFindings } from "./check/render-findings.js";
import { chooseProviders } from "./choose-providers.js";
import { whileWorking } from "./working.js";
import {
  platformWith,
  onlyWith,
  withCertificateOptions,
  withCommonOptions,
  type CertificateOptions,
  type CommonOptions,
} from "./common-options.js";

interface CheckOptions extends CommonOptions, CertificateOptions {
  readonly api?: string;
  readonly path?: string;
  readonly scope?: string;
  readonly token?: string;
  readonly offline?: true;
  readonly all?: true;
}

export function checkCommand(): Command {
  const command = new Command("check")
    .description(
      "Check settings, secrets and providers before any code is written, and say on which side to change what.",
    )
    .argument("[provider]", "name of a provider in the settings; without it, all of them")
    .option("--all", "show everything that was looked at, also what is good")
    .option("--offline", "look at the settings only, ask nobody")
    .addOption(
      new Option(
        "--api <name>",
        "look at an API of the settings from outside: what it lets in, and how it refuses",
      ).conflicts("offline"),
    )
    .option("--path <path>", "with --api: what to call (default: `sample` of the API)")
    .option("--scope <scopes>", "with --api: what the call takes, separated by spaces")
    .option("--token <file>", "with --api: a file with a token that it takes; - reads standard input")
    .addHelpText(
      "after",
      "\nExamples:\n  tenonsaw check quayside --env sandbox\n  tenonsaw check --api tidebook --env sandbox --scope tides.read\n\nExit code: 0 nothing is wrong, 1 something is, 2 the settings cannot be read, 3 nothing is\nknown to be wrong, and something could not be told.",
    );
  return onlyWith(withCertificateOptions(withCommonOptions(command)), {
    path: ["api"],
    scope: ["api"],
    token: ["api"],
  }).action(run);
}

async function run(provider: string | undefined, options: CheckOptions, command: Command): Promise<void> {
  if (provider !== undefined && options.api !== undefined)
    command.error("error: a provider, or an API with '--api <name>': one at a time");
  const platform = platformWith(options);
  const chosen = readSettingsFile(options.settings, options.env);
  if (options.api !== undefined) {
    const api = await readApi(chosen, options.api, options);
    const ask = () => checkApi(platform, api);
    show(chosen, await whileWorking(`calling ${options.api}`, options.json === true, ask), options);
    return;
  }
  const names = chooseProviders(chosen.settings, provider);
  const local = await checkSettings(platform, options.settings, chosen);
  const findings: CheckFinding[] = local.filter(({ about }) => about === "settings" || names.includes(about));
  if (options.offline !== true) {
    for (const name of names) {
      const ask = () => checkOnline(platform, chosen.settings, name);
      findings.push(...(await whileWorking(`asking ${name}`, options.json === true, ask)));
      const call = () => checkSamples(platform, chosen.settings, name);
      findings.push(...(await whileWorking(`calling APIs of ${name}`, options.json === true, call)));
    }
  }
  show(chosen, findings, options);
}

function show(chosen: ChosenSettings, findings: readonly CheckFinding[], options: CheckOptions): void {
  if (options.json) console.log(JSON.stringify({ environment: chosen.environment, findings }, undefined, 2));
  else console.log(renderFindings(findings, process.stdout.columns || 100, options.all === true, pc));
  const has = (wanted: CheckFinding["verdict"]) => findings.some(({ verdict }) => verdict === wanted);
  process.exitCode = has("wrong") ? 1 : has("untold") ? 3 : 0;
}

/** @throws connection.api-unknown, connection.other-origin, launch.host-unknown, cli.file-unreadable, cli.sample-missing */
async function readApi(
  chosen: ChosenSettings,
  name: string,
  { path, scope, token }: CheckOptions,
): Promise<ApiAtHand> {
  const { api, provider, audience } = findApi(chosen, name);
  const given = path ?? api.sample;
  if (given === undefined)
    throw new ProblemError("cli.sample-missing", {
      received: `no --path, and ${name} has no sample`,
      here: "Say by --path what to call, or set `sample` of the API: something that takes a token and changes nothing.",
    });
  return {
    name,
    url: addressAt(chosen.settings, api, given),
    issuer: provider.issuer,
    audience,
    metadataUrl: provider.deviations.metadataUrl ?? `${provider.issuer}/.well-known/openid-configuration`,
    ...(scope !== undefined && { scope }),
    ...(token !== undefined && {
      token: (token === "-" ? await text(process.stdin) : readTextFile(token)).trim(),
    }),
  };
}
