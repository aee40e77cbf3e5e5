import { ProblemError, resolveApiUrl } from "tenonsaw";
import type { ChosenSettings, ResolvedSignInSettings } from "tenonsaw/server";

/** An API of the settings, its provider, and what it calls itself in tokens. */
export interface FoundApi {
  readonly api: ResolvedSignInSettings["apis"][string];
  readonly provider: ResolvedSignInSettings["providers"][string];
  readonly audience: string;
}

/** @throws connection.api-unknown */
export function findApi({ settings }: ChosenSettings, name: string): FoundApi {
  const { apis, providers } = settings;
  const api = Object.hasOwn(apis, name) ? apis[name] : undefined;
  const provider = api && providers[api.provider];
  if (api && provider) return { api, provider, audience: audienceOf(settings, name) };
  const known = Object.keys(apis).filter((each) => Object.hasOwn(providers, apis[each]?.provider ?? ""));
  throw new ProblemError("connection.api-unknown", {
    received: name,
    expected: `one of the APIs in the settings that take access tokens: ${known.join(", ") || "(none)"}`,
  });
}

/**
 * Where a call to an API goes.
 *
 * @throws connection.other-origin, launch.host-unknown
 */
export function addressAt({ providers }: ResolvedSignInSettings, api: FoundApi["api"], path: string): string {
  requireTenant(api.provider, providers[api.provider]);
  return resolveApiUrl(api, path);
}

/**
 * Where a host has tenants, only a launch says which of them it is, and a command hears of none.
 *
 * @throws launch.host-unknown
 */
export function requireTenant(name: string, provider: FoundApi["provider"] | undefined): void {
  if (provider?.launch?.tenants)
    throw new ProblemError("launch.host-unknown", {
      because: "tenant-unnamed",
      received: `${name}, which is at ${provider.issuer}`,
      expected: "settings that are for one tenant",
      here: "For commands, keep settings whose `issuer` is the address of one tenant, without `launch.tenants`.",
    });
}

/** What an API calls itself: `audience` or `resource`, its own or its provider's, or else its origin. */
export function audienceOf({ apis, providers }: ResolvedSignInSettings, name: string): string {
  const { provider = "", origin = "", audience, resource } = apis[name] ?? {};
  return audience ?? resource ?? providers[provider]?.audience ?? providers[provider]?.resource ?? origin;
}
