import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { format, resolveConfig } from "prettier";

/** Writes a report as the project's documents are written. */
export async function writeReport(folder, name, text) {
  const file = join(folder, name);
  writeFileSync(file, await format(text, { ...(await resolveConfig(file)), filepath: file }));
}
