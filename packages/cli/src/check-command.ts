import { Command } from "commander";
import pc from "picocolors";
import { readSettingsFile } from "tenonsaw/node";
import { checkOnline } from "./check/check-online.js";
import { checkSettings } from "./check/check-settings.js";
import type { CheckFinding } from "./check/finding.js";
import { renderFindings } from "./check/render-findings.js";
import { chooseProviders } from "./choose-providers.js";
import { whileWorking } from "./working.js";
import {
  platformWith,
  withCertificateOptions,
  withCommonOptions,
  type CertificateOptions,
  type CommonOptions,
} from "./common-options.js";

interface CheckOptions extends CommonOptions, CertificateOptions {
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
    .addHelpText(
      "after",
      "\nExample:\n  tenonsaw check quayside --env sandbox\n\nExit code: 0 nothing is wrong, 1 something is, 2 the settings cannot be read, 3 nothing is\nknown to be wrong, and something could not be told.",
    );
  return withCertificateOptions(withCommonOptions(command)).action(run);
}

async function run(provider: string | undefined, options: CheckOptions): Promise<void> {
  const platform = platformWith(options);
  const chosen = readSettingsFile(options.settings, options.env);
  const names = chooseProviders(chosen.settings, provider);
  const local = await checkSettings(platform, options.settings, chosen);
  const findings: CheckFinding[] = local.filter(({ about }) => about === "settings" || names.includes(about));
  if (options.offline !== true) {
    for (const name of names) {
      const ask = () => checkOnline(platform, chosen.settings, name);
      findings.push(...(await whileWorking(`asking ${name}`, options.json === true, ask)));
    }
  }
  if (options.json) console.log(JSON.stringify({ environment: chosen.environment, findings }, undefined, 2));
  else console.log(renderFindings(findings, process.stdout.columns || 100, options.all === true, pc));
  const has = (wanted: CheckFinding["verdict"]) => findings.some(({ verdict }) => verdict === wanted);
  process.exitCode = has("wrong") ? 1 : has("untold") ? 3 : 0;
}
