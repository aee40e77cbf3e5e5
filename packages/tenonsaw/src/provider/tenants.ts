import type { TenantSettings } from "./settings-types.js";

/**
 * What can stand for a tenant's name: letters, digits, `_` and `-`, and single dots inside where it is a domain. Anything else could
 * lead an address elsewhere, as `..` does.
 */
const tenantName = /^[A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)*$/;
const longestName = 128;

export function isTenantName(tenant: string): boolean {
  return tenant.length <= longestName && tenantName.test(tenant);
}

/** Whether a tenant may come here. The one place where that is asked. */
export function isAdmitted({ admitted }: TenantSettings, tenant: string): boolean {
  return isTenantName(tenant) && (admitted === "any" || admitted.includes(tenant));
}

/** What stands in the placeholder's place, if it can be a tenant's name and all around it is the same. */
export function tenantIn(issuer: string, { placeholder }: TenantSettings, iss: string): string | undefined {
  const [before = "", after = ""] = issuer.split(placeholder);
  const tenant = iss.slice(before.length, iss.length - after.length);
  return isTenantName(tenant) && before + tenant + after === iss ? tenant : undefined;
}
