import type { ResolvedSignInSettings } from "tenonsaw/server";

/** The names that have a redirect URI each: the provider's own, or one for each tenant where its hosts differ in that. */
export function tenantNames(
  name: string,
  provider: ResolvedSignInSettings["providers"][string] | undefined,
): readonly string[] {
  const { tenants } = provider?.launch ?? {};
  if (!tenants) return [name];
  return tenants.admitted === "any"
    ? [`${name}.<tenant>`]
    : tenants.admitted.map((tenant) => `${name}.${tenant}`);
}
