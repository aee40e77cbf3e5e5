import { fail, quoted, type CauseOf } from "../problem/index.js";
import { isAdmitted, tenantIn, type LaunchSettings } from "../provider/index.js";

/** A host of the settings, by what it calls itself. */
export interface DeclaredHost {
  readonly name: string;
  /** With a placeholder in it, where `launch.tenants` says so. */
  readonly issuer: string;
  readonly launch?: LaunchSettings | undefined;
}

/** The host that a launch comes from, by its name in the settings. */
export interface FoundHost {
  readonly name: string;
  /** What stands in the placeholder's place. */
  readonly tenant?: string;
}

/**
 * Which of the declared hosts a launch comes from. `iss` is in the hands of whoever sends the browser here, so it is compared as
 * text, and no request leaves for a host that is not declared (SMART App Launch 2.2, Launch; OpenID Connect Core 1.0 section 4).
 *
 * @throws launch.host-unknown
 */
export function findHost(hosts: readonly DeclaredHost[], iss: string | undefined): FoundHost {
  const declared = hosts.map(({ issuer }) => issuer).join(", ") || "(none)";
  const refuse = (because: CauseOf<"launch.host-unknown"> | undefined, received = quoted(iss, 300)): never =>
    fail("launch.host-unknown", {
      received,
      expected: `one of the hosts in the settings: ${declared}`,
      because,
    });
  if (iss === undefined || iss === "") return refuse("absent", "no iss");
  for (const { name, issuer, launch } of hosts) {
    if (!launch?.tenants) {
      if (issuer === iss) return { name };
      continue;
    }
    const tenant = tenantIn(issuer, launch.tenants, iss);
    // A host's name and its tenant's are parted by a dot, so none of them has one.
    if (tenant === undefined || tenant.includes(".")) continue;
    if (isAdmitted(launch.tenants, tenant)) return { name, tenant };
    return refuse("tenant", `${quoted(iss, 300)}, tenant ${quoted(tenant)}`);
  }
  return refuse(nearly(hosts, iss));
}

/** In what it differs from the nearest one that is declared. */
function nearly(hosts: readonly DeclaredHost[], iss: string): CauseOf<"launch.host-unknown"> | undefined {
  const bare = (url: string) => url.replace(/\/+$/, "");
  const isLike = (same: (issuer: string) => boolean) => hosts.some(({ issuer }) => same(issuer));
  if (isLike((issuer) => bare(issuer) === bare(iss))) return "slash";
  if (isLike((issuer) => bare(issuer).toLowerCase() === bare(iss).toLowerCase())) return "letters";
  if (isLike((issuer) => issuer.replace(/^https?:/, "") === iss.replace(/^https?:/, ""))) return "scheme";
  return undefined;
}
