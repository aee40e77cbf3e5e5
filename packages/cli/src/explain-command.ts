import { text } from "node:stream/consumers";
import { Command } from "commander";
import pc from "picocolors";
import { createPlatform, isProblem } from "tenonsaw";
import type { ChosenSettings } from "tenonsaw/server";
import { onlyWith } from "./common-options.js";
import { audienceOf, findApi } from "./find-api.js";
import { explain } from "./explain/explain.js";
import type { ApiInQuestion } from "./explain/explanation.js";
import { isFine } from "./explain/explanation.js";
import { renderExplanation } from "./explain/render.js";
import { readSettingsFile } from "tenonsaw/node";

interface ExplainOptions {
  readonly settings?: string;
  readonly against?: string;
  readonly scope?: string;
  readonly env?: string;
  readonly json?: true;
}

export function explainCommand(): Command {
  const command = new Command("explain")
    .description("Say what something means and what is wrong with it. Works offline.")
    .argument("[thing]", "what to explain, in quotes; without it, standard input is read")
    .option("--settings <file>", "say whether it would be accepted with these settings, and why not")
    .option("--against <api>", "say whether this API of the settings would accept the token, and why not")
    .option("--scope <scopes>", "with --against: what the call takes, separated by spaces")
    .option("--env <name>", "which of the settings' environments")
    .option("--json", "print for scripts")
    .addHelpText(
      "after",
      `
What it knows: tokens (ID, access and logout tokens, DPoP proofs, opaque ones), callback and authorization URLs, also
their query or fragment alone, token, error and registration answers, keys, metadata and claims in JSON, WWW-Authenticate
headers, problems (a code, or the line of a log) and the standards' error codes, scopes of hosts with records, and two addresses side by side; and what of these stands in an HTTP message or a curl command.

Examples:
  tenonsaw explain 'http://localhost:5173/back http://localhost:5173/back/'
  tenonsaw explain identity.nonce-mismatch
  tenonsaw explain 'patient/Observation.rs?category=laboratory offline_access'
  tenonsaw explain 'http://localhost:5173/sign-in/from/quayside?error=access_denied&state=x'
  tenonsaw explain --settings tenonsaw.config.json < token.txt
  tenonsaw explain --against tidebook --scope tides.read < token.txt

A token given as an argument stays in the shell's history; standard input leaves no trace.
Exit code: 0 nothing wrong, 1 something is wrong with it or it would be refused, 2 it cannot be explained.`,
    );
  return onlyWith(command, { scope: ["against"], env: ["settings", "against"] }).action(run);
}

async function run(thing: string | undefined, options: ExplainOptions): Promise<void> {
  const file = options.settings ?? (options.against === undefined ? undefined : "tenonsaw.config.json");
  const chosen = file === undefined ? undefined : readSettingsFile(file, options.env);
  const api =
    file !== undefined && chosen && options.against !== undefined
      ? apiInQuestion(file, chosen, options.against, options.scope)
      : undefined;
  const isRead = thing === undefined || thing === "-";
  if (isRead && process.stdin.isTTY)
    console.error("Paste what is to be explained, then press Enter and Ctrl-D.");
  const pasted = isRead ? await text(process.stdin) : thing;
  const explanation = await explain({ platform: createPlatform(), settings: chosen?.settings, api }, pasted);
  console.log(
    options.json
      ? JSON.stringify(explanation, undefined, 2)
      : renderExplanation(explanation, process.stdout.columns || 100, pc),
  );
  process.exitCode = isFine(explanation) ? 0 : 1;
}

/** @throws connection.api-unknown */
function apiInQuestion(file: string, chosen: ChosenSettings, name: string, scope?: string): ApiInQuestion {
  const { api: found, provider, audience } = findApi(chosen, name);
  const otherIssuers = chosen.environments
    .filter((environment) => environment !== chosen.environment)
    .flatMap((environment) => {
      try {
        const other = readSettingsFile(file, environment).settings.providers[found.provider];
        return other ? [[`the issuer of the environment ${environment}`, other.issuer] as const] : [];
      } catch (error) {
        // An environment that is not complete yet has nothing to compare with.
        if (isProblem(error)) return [];
        throw error;
      }
    });
  const otherApis = Object.keys(chosen.settings.apis)
    .filter((api) => api !== name)
    .map((api) => [`the API ${api}`, audienceOf(chosen.settings, api)] as const);
  const { tenants } = provider.deviations;
  return {
    name,
    takes: {
      issuer: provider.issuer,
      audience,
      claims: found.tokenClaims,
      ...(tenants && { tenants }),
      elsewhere: Object.fromEntries([...otherIssuers, ...otherApis]),
    },
    ...(scope !== undefined && { scope: scope.split(" ") }),
  };
}
