import { ProblemError } from "tenonsaw";
import { quoted } from "tenonsaw/problem";
import type { ResolvedSignInSettings } from "tenonsaw/server";

/**
 * The names of the providers a command is about: the one named, or all.
 *
 * @throws provider.unknown
 */
export function chooseProviders(
  settings: ResolvedSignInSettings,
  name: string | undefined,
): readonly string[] {
  const names = Object.keys({ ...settings.providers, ...settings.oauth1Providers });
  if (name === undefined) return names;
  if (names.includes(name)) return [name];
  throw new ProblemError("provider.unknown", {
    received: quoted(name),
    expected: `one of ${names.join(", ")}`,
    here: "Name one of those, or add the provider to the settings.",
  });
}
