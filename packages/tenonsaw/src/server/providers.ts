import type { Jwk } from "../jose/index.js";
import { fail, quoted } from "../problem/index.js";
import {
  openProvider,
  publicKeySet,
  readClientKeys,
  resolveSecret,
  type Provider,
} from "../provider/index.js";
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
  /** The public parts of all signing keys of the app's own: a JWK Set (RFC 7517 section 5). */
  clientKeySet(): { readonly keys: readonly Jwk[] };
}

/**
 * Secrets are fetched at once, so that a missing one stops the start. Metadata is fetched when a provider is first
 * used, once for all who ask: an app can start, and serve those already signed in, while a provider is down.
 *
 * @throws provider.secret-missing, provider.client-key-refused
 */
export function createProviders(tools: Tools, settings: ResolvedSignInSettings["providers"]): Providers {
  const readSecrets = (member: "clientSecret" | "clientKeys") =>
    new Map(
      Object.entries(settings).flatMap(([name, { [member]: reference }]) =>
        reference === undefined
          ? []
          : [[name, resolveSecret(tools, reference, `providers.${name}.${member}`)] as const],
      ),
    );
  const [secrets, keys] = [readSecrets("clientSecret"), readSecrets("clientKeys")];
  const own = new Map([...keys.values()].flatMap(readClientKeys).map((key) => [key.kid ?? "", key]));
  const opened = new Map<string, Promise<Provider>>();
  const open = async (name: string): Promise<Provider> => {
    const found = Object.hasOwn(settings, name) ? settings[name] : undefined;
    if (!found) {
      fail("provider.unknown", {
        received: quoted(name),
        expected: `one of ${Object.keys(settings).join(", ")}`,
      });
    }
    const { title: _title, clientSecret: _secret, clientKeys: _keys, ...rest } = found;
    const [clientSecret, clientKeys] = [secrets.get(name)?.reveal(), keys.get(name)?.reveal()];
    const revealed = {
      ...(clientSecret !== undefined && { clientSecret }),
      ...(clientKeys !== undefined && { clientKeys }),
    };
    return openProvider({ ...rest, ...revealed }, tools);
  };
  return {
    entries: Object.entries(settings).map(([name, { title }]) => ({ name, title: title ?? name })),
    clientKeySet: () => publicKeySet([...own.values()]),
    open(name) {
      const underway = opened.get(name) ?? open(name);
      opened.set(name, underway);
      // A failure is not kept: the next one to ask tries again.
      underway.catch(() => opened.delete(name));
      return underway;
    },
  };
}
