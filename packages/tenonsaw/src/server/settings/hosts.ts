import { baseOf, isAdmitted, isHost } from "../../provider/index.js";
import type { DeclaredHost, FoundHost } from "../../launch/index.js";
import { isForSignIn } from "./connection-settings.js";
import type { ResolvedSignInSettings } from "./settings-types.js";

type Settings = Pick<ResolvedSignInSettings, "providers">;

/** Sessions that come of a launch are of this kind; the settings may give it limits of its own. */
export const launchKind = "launch";

/** How long such a session lasts where the settings do not say, in seconds: a working day. */
export const launchSeconds = 28_800;

/**
 * A provider whose hosts differ in one name is many: `clinic.mill-lane` is the provider `clinic` of the settings with the
 * tenant `mill-lane`. No name in the settings has a dot.
 */
export function settingsName(name: string): string {
  return name.split(".", 1)[0] ?? name;
}

/** The way back: what a host is called whose tenant is known. */
export function nameWithTenant({ name, tenant }: FoundHost): string {
  return tenant === undefined ? name : `${name}.${tenant}`;
}

/**
 * The settings that a name stands for; with a tenant in the name, its address is in them. The one function from a name to what it
 * means: a tenant that is not admitted is not there, whoever asks for it, and by whichever route.
 */
export function providerSettingsOf(
  { providers }: Settings,
  name: string,
): ResolvedSignInSettings["providers"][string] | undefined {
  const bare = settingsName(name);
  const found = Object.hasOwn(providers, bare) ? providers[bare] : undefined;
  if (name === bare) return found;
  const { tenants, ...launch } = found?.launch ?? {};
  const tenant = name.slice(bare.length + 1);
  if (!found || !tenants || tenant.includes(".") || !isAdmitted(tenants, tenant)) return undefined;
  return { ...found, issuer: found.issuer.replace(tenants.placeholder, tenant), launch };
}

/** Whether a name is of a provider whose hosts differ in their tenant, with a tenant in it or not. */
export function isOfTenants({ providers }: Settings, name: string): boolean {
  const bare = settingsName(name);
  return Object.hasOwn(providers, bare) && providers[bare]?.launch?.tenants !== undefined;
}

/** Where the host of that name is; undefined where it is none, or where its tenant is not said. */
export function hostBase(settings: Settings, name: string): string | undefined {
  const found = providerSettingsOf(settings, name);
  return found && isHost(found) && !found.launch?.tenants ? baseOf(found) : undefined;
}

/** All that may open this app, or that may send people here to sign in: none that is there for connecting accounts alone. */
export function declaredHosts(
  settings: Pick<ResolvedSignInSettings, "connections" | "providers">,
  isLaunch: boolean,
): readonly DeclaredHost[] {
  return Object.entries(settings.providers)
    .filter(([name, each]) => isForSignIn(settings, name) && (!isLaunch || isHost(each)))
    .map(([name, { issuer, launch }]) => ({ name, issuer, launch }));
}

/** Origins of hosts' pages that may show this app in a frame. */
export function framingOrigins({ providers }: Settings): readonly string[] {
  const all = Object.values(providers).flatMap(({ launch }) => launch?.frameAncestors ?? []);
  return [...new Set(all)];
}

/** A host's records are about people: of a page's call no more is shown than which API it is for. */
export function shownPath(path: string, { apis }: Pick<ResolvedSignInSettings, "apis">): string {
  const [, name = ""] = /^\/relay\/([^/]+)\//.exec(path) ?? [];
  return Object.hasOwn(apis, name) && apis[name]?.base !== undefined ? `/relay/${name}/…` : path;
}
