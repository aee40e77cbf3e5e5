import QuickLRU from "quick-lru";
import type { Jwk } from "../../jose/index.js";
import { fail, quoted, type ProblemFinding } from "../../problem/index.js";
import { loadPart } from "../../problem/load-part.js";
import {
  metadataFreshSeconds,
  missingOwnKeys,
  openProvider,
  publicKeySet,
  readClientKeys,
  refuseSettings,
  resolveSecret,
  type Provider,
} from "../../provider/index.js";
import type { Tools } from "../../trace/index.js";
import { KeptFresh } from "../../trace/kept-fresh.js";
import { openOAuth1Provider, type OAuth1Provider } from "../../oauth1/index.js";
import { isForSignIn } from "./connection-settings.js";
import { isOfTenants, providerSettingsOf, settingsName } from "./hosts.js";
import { oauth1Line, openIdLine, type Line } from "./line.js";
import type { ResolvedSignInSettings } from "./settings-types.js";

/** A provider, as a chooser offers it. */
export interface ProviderEntry<Providers extends string = string> {
  /** Its name in the settings. */
  readonly name: Providers;
  /** What people see. */
  readonly title: string;
}

/** The providers of the settings. */
export interface Providers {
  /** Those that people sign in with. */
  readonly entries: readonly ProviderEntry[];
  /** All there are, for connecting only or not. */
  readonly all: readonly ProviderEntry[];
  /** What people see of one; its name, where the settings have none such. */
  titleOf(name: string): string;
  /** @throws provider.unknown */
  requireKnown(name: string): void;
  /** @throws provider.unknown, provider.other-protocol, and what openProvider throws */
  open(name: string): Promise<Provider>;
  /** @throws provider.unknown, provider.other-protocol */
  openOAuth1(name: string): OAuth1Provider;
  /** The provider's line of travel, whichever protocol it speaks. */
  line(name: string): Promise<Line>;
  /** The public parts of all signing keys of the app's own: a JWK Set (RFC 7517 section 5). */
  clientKeySet(): { readonly keys: readonly Jwk[] };
}

/**
 * Secrets are fetched at once, so that a missing one stops the start. Metadata is fetched when a provider is first
 * used, and again after an hour, once for all who ask: an app can start, and serve those already signed in, while a provider is down.
 *
 * @throws provider.secret-missing, provider.client-key-refused
 */
export async function createProviders(
  tools: Tools,
  {
    providers: settings,
    oauth1Providers,
    connections,
  }: Pick<ResolvedSignInSettings, "connections" | "providers" | "oauth1Providers">,
): Promise<Providers> {
  const readSecrets = (member: "clientSecret" | "clientKeys") =>
    new Map(
      Object.entries(settings).flatMap(([name, { [member]: reference }]) =>
        reference === undefined
          ? []
          : [[name, resolveSecret(tools, reference, `providers.${name}.${member}`)] as const],
      ),
    );
  const [secrets, keys] = [readSecrets("clientSecret"), readSecrets("clientKeys")];
  const ownKeys = new Map([...keys].map(([name, text]) => [name, readClientKeys(text)]));
  await requireAgreement(settings, ownKeys);
  const own = new Map([...ownKeys.values()].flat().map((key) => [key.kid ?? "", key]));
  const oauth1 = new Map(
    Object.entries(oauth1Providers).map(([name, each]) => [name, openOAuth1Provider(each, tools)]),
  );
  const refuseUnknown = (name: string): never =>
    Object.hasOwn(settings, name) || oauth1.has(name)
      ? fail("provider.other-protocol", { received: quoted(name) })
      : fail("provider.unknown", {
          received: quoted(name),
          expected: `one of ${[...Object.keys(settings), ...oauth1.keys()].join(", ")}`,
        });
  // Tenants may be any number, and whoever knows the address of one can ask for it.
  const opened = new QuickLRU<string, KeptFresh<Provider>>({ maxSize: 1000 });
  const open = async (name: string): Promise<Provider> => {
    const found = providerSettingsOf({ providers: settings }, name);
    if (!found && isOfTenants({ providers: settings }, name))
      fail("launch.host-unknown", { received: quoted(name), because: "tenant" });
    if (!found) return refuseUnknown(name);
    if (found.launch?.tenants)
      fail("launch.host-unknown", { received: `${quoted(name)}, and no tenant`, because: "tenant-unnamed" });
    const { title: _title, clientSecret: _secret, clientKeys: _keys, ...rest } = found;
    const bare = settingsName(name);
    const [clientSecret, clientKeys] = [secrets.get(bare)?.reveal(), keys.get(bare)?.reveal()];
    const revealed = {
      ...(clientSecret !== undefined && { clientSecret }),
      ...(clientKeys !== undefined && { clientKeys }),
    };
    return openProvider({ ...rest, ...revealed }, tools);
  };
  const openOnce = async (name: string) => {
    const known = opened.get(name);
    const kept =
      known ??
      new KeptFresh<Provider>(
        tools.platform,
        async (before) => ({
          value: withKeysOf(before, await open(name)),
          freshSeconds: metadataFreshSeconds,
        }),
        (error) =>
          tools.report?.(error, `renewing the metadata of ${quoted(name)}, with what is at hand kept in use`),
      );
    if (!known) opened.set(name, kept);
    try {
      return await kept.get();
    } finally {
      // A failure is not kept: the next one to ask tries again.
      if (kept.latest === undefined) opened.delete(name);
    }
  };
  const openOAuth1 = (name: string) => oauth1.get(name) ?? refuseUnknown(name);
  const all = Object.entries({ ...settings, ...oauth1Providers }).map(([name, { title }]) => ({
    name,
    title: title ?? name,
  }));
  // Where hosts differ in their tenant, somebody who begins here has none yet.
  const isOffered = ({ name }: ProviderEntry) =>
    settings[name]?.launch?.tenants === undefined && isForSignIn({ connections }, name);
  return {
    entries: all.filter(isOffered),
    all,
    titleOf: (name) => all.find((each) => each.name === settingsName(name))?.title ?? name,
    requireKnown: (name) => {
      if (!all.some((each) => each.name === name)) refuseUnknown(name);
    },
    clientKeySet: () => publicKeySet([...own.values()]),
    open: openOnce,
    openOAuth1,
    line: async (name) =>
      oauth1.has(name) ? oauth1Line(openOAuth1(name)) : openIdLine(await openOnce(name)),
  };
}

/** Keys that are where they were are the ones at hand. */
function withKeysOf(before: Provider | undefined, opened: Provider): Provider {
  const isSame = before?.keys !== undefined && before.metadata.jwks_uri === opened.metadata.jwks_uri;
  return isSame && opened.keys ? { ...opened, keys: before.keys } : opened;
}

/**
 * What settings and keys alone tell is told at once, in place of with the first visitor.
 *
 * @throws provider.settings-refused
 */
async function requireAgreement(
  providers: ResolvedSignInSettings["providers"],
  keys: ReadonlyMap<string, readonly Jwk[]>,
): Promise<void> {
  const findings: ProblemFinding[] = [];
  for (const [name, each] of Object.entries(providers)) {
    const own = keys.get(name) ?? [];
    const against =
      each.securityProfile === undefined
        ? []
        : (await loadPart(import("../../provider/security-profile.js"))).findContradictions(each, own);
    for (const { path, message } of [...missingOwnKeys(each, own), ...against])
      findings.push({ path: `providers.${name}.${path}`, message });
  }
  if (findings.length > 0) refuseSettings(...findings);
}
