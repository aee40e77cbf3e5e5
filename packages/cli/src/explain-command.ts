import { text } from "node:stream/consumers";
import { Command } from "commander";
import pc from "picocolors";
import { createPlatform, isProblem, ProblemError } from "tenonsaw";
import type { ChosenSettings } from "tenonsaw/server";
import { explain } from "./explain/explain.js";
import type { ApiInQuestion } from "./explain/judge-against-api.js";
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
  return new Command("explain")
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
their query or fragment alone, token, error and registration answers, WWW-Authenticate headers, codes of problems and of
the standards' errors, and two addresses side by side; and what of these stands in an HTTP message or a curl command.

Examples:
  tenonsaw explain 'http://localhost:5173/back http://localhost:5173/back/'
  tenonsaw explain identity.nonce-mismatch
  tenonsaw explain 'http://localhost:5173/sign-in/from/quayside?error=access_denied&state=x'
  tenonsaw explain --settings tenonsaw.config.json < token.txt
  tenonsaw explain --against tidebook --scope tides.read < token.txt

A token given as an argument stays in the shell's history; standard input leaves no trace.
Exit code: 0 nothing wrong, 1 something is wrong with it or it would be refused, 2 it cannot be explained.`,
    )
    .action(run);
}

async function run(thing: string | undefined, options: ExplainOptions): Promise<void> {
  const file = options.settings ?? (options.against === undefined ? undefined : "tenonsaw.config.json");
  const chosen = file === undefined ? undefined : readSettingsFile(file, options.env);
  const api =
    file !== undefined && chosen && options.against !== undefined
      ? findApi(file, chosen, options.against, options.scope)
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
function findApi(file: string, chosen: ChosenSettings, name: string, scope?: string): ApiInQuestion {
  const { apis, providers } = chosen.settings;
  const audienceOf = (api: string) => {
    const { provider = "", origin = "" } = apis[api] ?? {};
    const { audience, resource } = apis[api] ?? {};
    return audience ?? resource ?? providers[provider]?.audience ?? providers[provider]?.resource ?? origin;
  };
  const found = Object.hasOwn(apis, name) ? apis[name] : undefined;
  if (!found) {
    const expected = `one of the APIs in the settings: ${Object.keys(apis).join(", ") || "(none)"}`;
    throw new ProblemError("connection.api-unknown", { received: name, expected });
  }
  const elsewhere = chosen.environments
    .filter((environment) => environment !== chosen.environment)
    .flatMap((environment) => {
      try {
        const other = readSettingsFile(file, environment).settings.providers[found.provider];
        return other ? [[environment, other.issuer] as const] : [];
      } catch (error) {
        // An environment that is not complete yet has nothing to compare with.
        if (isProblem(error)) return [];
        throw error;
      }
    });
  return {
    name,
    issuer: providers[found.provider]?.issuer ?? "",
    audience: audienceOf(name),
    tokenClaims: found.tokenClaims,
    ...(scope !== undefined && { scope: scope.split(" ") }),
    elsewhere: new Map(elsewhere),
    others: new Map(
      Object.keys(apis)
        .filter((api) => api !== name)
        .map((api) => [api, audienceOf(api)]),
    ),
  };
}
