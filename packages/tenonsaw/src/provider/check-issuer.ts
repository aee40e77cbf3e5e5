import type { Deviations } from "./settings-types.js";
import { quoted, type ProblemCode } from "../problem/index.js";
import { check, type Tools } from "../trace/index.js";

interface Expected {
  readonly issuer: string;
  readonly deviations?: Deviations;
}

/**
 * Whether `iss`, of a token or a response, is this provider's: the issuer itself, compared as text; or, where
 * deviations.tenants says so, the issuer with an admitted tenant in the placeholder's place.
 *
 * @param mismatch what it is when it is another issuer altogether
 * @throws that, or provider.tenant-refused
 */
export function checkIssuer(tools: Tools, mismatch: ProblemCode, expected: Expected, iss: string): void {
  const tenants = expected.deviations?.tenants;
  const tenant = tenants && tenantOf(expected.issuer, tenants.placeholder, iss);
  check(tools, mismatch, tenants ? tenant !== undefined : iss === expected.issuer, () => ({
    received: quoted(iss),
    expected: tenants
      ? `${quoted(expected.issuer)} with a tenant for ${tenants.placeholder}`
      : quoted(expected.issuer),
  }));
  if (!tenants || tenant === undefined) return;
  const isAdmitted = tenants.admitted === "any" || tenants.admitted.includes(tenant);
  check(tools, "provider.tenant-refused", isAdmitted, () => ({
    received: quoted(tenant),
    expected: tenants.admitted === "any" ? "any tenant" : `one of ${tenants.admitted.join(", ")}`,
  }));
}

/** What stands in the placeholder's place, if all around it is the same. */
function tenantOf(issuer: string, placeholder: string, iss: string): string | undefined {
  const [before = "", after = ""] = issuer.split(placeholder);
  const tenant = iss.slice(before.length, iss.length - after.length);
  return /^[\w.-]+$/.test(tenant) && before + tenant + after === iss ? tenant : undefined;
}
