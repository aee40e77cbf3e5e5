import { Command, Option } from "commander";
import pc from "picocolors";
import { readSettingsFile } from "tenonsaw/server/node";
import { chooseProviders } from "./choose-providers.js";
import { withCommonOptions, type CommonOptions } from "./common-options.js";
import {
  makeSheet,
  sheetAsMarkdown,
  sheetAsRegistration,
  sheetAsText,
  type Sheet,
} from "./sheet/make-sheet.js";

interface SheetOptions extends CommonOptions {
  readonly format: "text" | "markdown" | "registration";
}

export function sheetCommand(): Command {
  const command = new Command("sheet")
    .description("Print what to paste into a provider's console, and how each value came about.")
    .argument("[provider]", "name of a provider in the settings; without it, all of them")
    .addOption(
      new Option("--format <form>", "registration is client metadata as in RFC 7591")
        .choices(["text", "markdown", "registration"])
        .default("text"),
    )
    .addHelpText("after", "\nExample:\n  tenonsaw sheet quayside --env production --format markdown");
  return withCommonOptions(command).action(run);
}

function run(provider: string | undefined, options: SheetOptions): void {
  const { settings, environment } = readSettingsFile(options.settings, options.env);
  const names = chooseProviders(settings, provider);
  const sheets = names.map((name) => makeSheet(settings, name));
  if (options.format === "registration") {
    const registrations = names.map((name) => [name, sheetAsRegistration(settings, name)]);
    console.log(JSON.stringify(Object.fromEntries(registrations), undefined, 2));
  } else if (options.json) console.log(JSON.stringify({ environment, sheets }, undefined, 2));
  else {
    const form = (sheet: Sheet) =>
      options.format === "markdown" ? sheetAsMarkdown(sheet) : sheetAsText(sheet, pc);
    if (environment !== undefined) console.log(`Environment: ${environment}\n`);
    console.log(sheets.map(form).join("\n"));
  }
}
