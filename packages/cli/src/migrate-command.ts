import { Command } from "commander";
import { openStore } from "./open-store.js";

interface MigrateOptions {
  readonly store: string;
  readonly json?: true;
}

export function migrateCommand(): Command {
  return new Command("migrate")
    .description("Make a store's tables, or bring them up to date, before the app starts.")
    .requiredOption("--store <place>", "the app's SQLite file, or a URL redis://… or postgres://…")
    .option("--json", "print for scripts")
    .addHelpText(
      "after",
      "\nAn app does the same when it starts, where its database user may. Versions of the app from before go on beside it.\n\nExample:\n  tenonsaw migrate --store postgres://owner@localhost/ferrywell\n\nExit code: 0 up to date, 2 it could not be done.",
    )
    .action(migrate);
}

async function migrate({ store: place, json }: MigrateOptions): Promise<void> {
  let migrated: { readonly from: number; readonly to: number } | undefined;
  const store = await openStore(place, { onMigrated: (from, to) => (migrated = { from, to }) });
  await store.close();
  if (json) console.log(JSON.stringify({ migrated: migrated ?? null }));
  else if (migrated)
    console.log(
      migrated.from === 0
        ? `Made, at version ${migrated.to}.`
        : `Brought from version ${migrated.from} to ${migrated.to}.`,
    );
  else console.log("Up to date.");
}
