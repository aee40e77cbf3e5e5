import { readFile } from "node:fs/promises";
import { ProblemError } from "tenonsaw";
import { readSignInSettings } from "tenonsaw/server";

export type SignInFileSettings = ReturnType<typeof readSignInSettings>;

/**
 * Reads a settings file: JSON with the members of `createSignIn`'s settings that are data.
 *
 * @throws cli.file-unreadable, provider.settings-refused
 */
export async function readSettingsFile(path: string): Promise<SignInFileSettings> {
  let data: unknown;
  try {
    data = JSON.parse(await readFile(path, "utf8"));
  } catch (error) {
    // Not the parser's own words: they quote the text, and the text may hold secrets.
    const reason =
      error instanceof SyntaxError ? "not JSON" : ((error as NodeJS.ErrnoException).code ?? "unreadable");
    throw new ProblemError("cli.file-unreadable", { received: `${path}: ${reason}`, cause: error });
  }
  return readSignInSettings(data);
}
