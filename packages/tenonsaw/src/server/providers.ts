import { fail, quoted } from "../problem/index.js";
import { openProvider, resolveSecret, type Provider } from "../provider/index.js";
import type { Tools } from "../trace/index.js";
import type { ResolvedSignInSettings } from "./settings.js";

export interface ProviderEntry {
  readonly name: string;
  readonly title: string;
}

/** The providers of the settings. */
export interface Providers {
  readonly entries: readonly ProviderEntry[];
  /** @throws provider.unknown, and what openProvider throws */
  open(name: string): Promise<Provider>;
}

/**
 * Secrets are fetched at once, so that a missing one stops the start. Metadata is fetched when a provider is first
 * used, once for all who ask: an app can start, and serve those already signed in, while a provider is down.
 *
 * @throws provider.secret-missing
 */
export function createProviders(tools: Tools, settings: ResolvedSignInSettings["providers"]): Providers {
  const secrets = new Map(
    Object.entries(settings).map(([name, { clientSecret }]) => [
      name,
      clientSecret === undefined
        ? undefined
        : resolveSecret(tools, clientSecret, `providers.${name}.clientSecret`),
    ]),
  );
  const opened = new Map<string, Promise<Provider>>();
  const open = async (name: string): Promise<Provider> => {
    const found = Object.hasOwn(settings, name) ? settings[name] : undefined;
    if (!found) {
      fail("provider.unknown", {
        received: quoted(name),
        expected: `one of ${Object.keys(settings).join(", ")}`,
      });
    }
    const { title: _title, clientSecret: _reference, ...rest } = found;
    const secret = secrets.get(name)?.reveal();
    return openProvider({ ...rest, ...(secret !== undefined && { clientSecret: secret }) }, tools);
  };
  return {
    entries: Object.entries(settings).map(([name, { title }]) => ({ name, title: title ?? name })),
    open(name) {
      const underway = opened.get(name) ?? open(name);
      opened.set(name, underway);
      // A failure is not kept: the next one to ask tries again.
      underway.catch(() => opened.delete(name));
      return underway;
    },
  };
}
