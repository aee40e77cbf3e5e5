import { rmSync } from "node:fs";
import { Command, Option } from "commander";
import pc from "picocolors";
import {
  createPlatform,
  openProvider,
  ProblemError,
  publicKeySet,
  readClientKeys,
  registerClient,
} from "tenonsaw";
import { resolveSecret, type ResolvedSignInSettings } from "tenonsaw/server";
import { readSettingsFile } from "tenonsaw/node";
import { writeNewFile } from "./files.js";
import { chooseProviders } from "./choose-providers.js";
import { whileWorking } from "./working.js";
import { onlyWith, withCommonOptions, type CommonOptions } from "./common-options.js";
import {
  makeSheet,
  sheetAsMarkdown,
  sheetAsRegistration,
  sheetAsText,
  type Sheet,
} from "./sheet/make-sheet.js";

interface SheetOptions extends CommonOptions {
  readonly format: "text" | "markdown" | "registration";
  readonly register?: true;
  readonly secretFile?: string;
}

export function sheetCommand(): Command {
  const command = new Command("sheet")
    .description("Print what to paste into a provider's console, and how each value came about.")
    .argument("[provider]", "name of a provider in the settings; without it, all of them")
    .addOption(
      new Option("--format <form>", "registration is client metadata as in RFC 7591")
        .choices(["text", "markdown", "registration"])
        .conflicts("register")
        .default("text"),
    )
    .option("--register", "register with the provider by request (RFC 7591), and keep the secret in a file")
    .option("--secret-file <file>", "where --register puts the secret (default: <provider>.secret)")
    .addHelpText("after", "\nExample:\n  tenonsaw sheet quayside --env production --format markdown");
  return onlyWith(withCommonOptions(command), { secretFile: ["register"] }).action(run);
}

async function run(provider: string | undefined, options: SheetOptions): Promise<void> {
  const { settings, environment } = readSettingsFile(options.settings, options.env);
  const names = chooseProviders(settings, provider);
  if (options.register) {
    for (const name of names) await register(settings, name, options);
    return;
  }
  const sheets = names.map((name) => makeSheet(settings, name));
  if (options.format === "registration") {
    // OAuth 1.0a has no client metadata.
    const registrations = names
      .filter((name) => settings.providers[name])
      .map((name) => [name, sheetAsRegistration(settings, name)]);
    console.log(JSON.stringify(Object.fromEntries(registrations), undefined, 2));
  } else if (options.json) console.log(JSON.stringify({ environment, sheets }, undefined, 2));
  else {
    const form = (sheet: Sheet) =>
      options.format === "markdown" ? sheetAsMarkdown(sheet) : sheetAsText(sheet, pc);
    if (environment !== undefined) console.log(`Environment: ${environment}\n`);
    console.log(sheets.map(form).join("\n"));
  }
}

/** Registers the app and keeps the answer by reference: the secret goes into a file, what refers to it is printed. */
async function register(
  settings: ResolvedSignInSettings,
  name: string,
  options: SheetOptions,
): Promise<void> {
  const found = settings.providers[name];
  if (!found) throw new ProblemError("provider.other-protocol", { received: `${name}: OAuth 1.0a` });
  const { clientSecret: _none, clientAuthentication: _default, clientKeys, ...rest } = found;
  const platform = createPlatform();
  const provider = await openProvider(rest, { platform });
  const file = options.secretFile ?? `${name}.secret`;
  // Made before anything is asked for: a secret that cannot be kept must not be given out.
  const keep = clientKeys === undefined ? writeNewFile(file, "") : undefined;
  const title = new URL(settings.origin).host;
  // The provider may not be able to fetch the key set of an app that does not run yet: the keys themselves go along.
  const jwks =
    clientKeys && publicKeySet(readClientKeys(resolveSecret({ platform }, clientKeys, "clientKeys")));
  const { jwks_uri: _address, ...metadata } = sheetAsRegistration(settings, name);
  // What the app is going to use: before it is registered its settings have no secret, and that makes it no public client.
  const offered = provider.metadata.token_endpoint_auth_methods_supported ?? ["client_secret_basic"];
  const usual = ["client_secret_basic", "client_secret_post"].find((method) => offered.includes(method));
  const wanted =
    found.clientAuthentication ?? (clientKeys ? "private_key_jwt" : (usual ?? "client_secret_basic"));
  const asked = {
    client_name: title,
    ...metadata,
    token_endpoint_auth_method: wanted,
    ...(jwks && { jwks }),
  };
  const register = () => registerClient(provider, asked);
  const {
    clientId,
    clientSecret,
    clientAuthentication = wanted,
  } = await whileWorking(`asking ${name}`, options.json === true, register).catch((error: unknown) => {
    if (keep) rmSync(file);
    throw error;
  });
  if (clientSecret) keep?.(`${clientSecret.reveal()}\n`);
  else if (keep) rmSync(file);
  const isUsual = clientAuthentication === (clientKeys ? "private_key_jwt" : usual);
  const lines = {
    clientId,
    ...(clientSecret && { clientSecret: { file } }),
    ...(!isUsual && { clientAuthentication }),
  };
  if (clientAuthentication !== wanted)
    console.error(
      pc.yellow(
        `${name} has registered ${clientAuthentication}, where ${wanted} was asked for: what it says holds.`,
      ),
    );
  if (options.json) console.log(JSON.stringify({ provider: name, ...lines }, undefined, 2));
  else {
    console.log(`${pc.green("Registered")} with ${name}. Put this into its settings:\n`);
    console.log(JSON.stringify(lines, undefined, 2).replace(/^/gm, "  "));
  }
}
