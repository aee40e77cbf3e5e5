import type { Deviations } from "./settings-types.js";
import { refuseMetadata } from "./metadata.js";
import { isAdmitted, tenantIn } from "./tenants.js";
import { isLoopback, parseUrl } from "../platform/index.js";
import { leadsHere } from "../platform/loopback.js";
import { quoted, type CauseOf } from "../problem/index.js";
import { check, takeStep, type Tools } from "../trace/index.js";

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
export function checkIssuer(
  tools: Tools,
  mismatch: "identity.issuer-mismatch" | "response.issuer-mismatch" | "identity.front-channel-refused",
  expected: Expected,
  iss: string,
): void {
  const tenants = expected.deviations?.tenants;
  const tenant = tenants && tenantIn(expected.issuer, tenants, iss);
  takeStep(tools, {
    code: mismatch,
    holds: tenants ? tenant !== undefined : iss === expected.issuer,
    detail: () => {
      const differs = tenants ? "elsewhere" : differsBecause(iss, expected.issuer);
      const isTold =
        mismatch !== "identity.front-channel-refused" && ["slash", "letters", "path"].includes(differs);
      return {
        received: quoted(iss),
        expected: tenants
          ? `${quoted(expected.issuer)} with a tenant for ${tenants.placeholder}`
          : quoted(expected.issuer),
        because: isTold ? differs : undefined,
      };
    },
  });
  if (!tenants || tenant === undefined) return;
  check(tools, "provider.tenant-refused", isAdmitted(tenants, tenant), () => ({
    received: quoted(tenant),
    expected: tenants.admitted === "any" ? "any tenant" : `one of ${tenants.admitted.join(", ")}`,
  }));
}

/** Whether `iss` is the issuer, or one of its admitted tenants. */
export function isIssuerOf({ issuer, deviations }: Expected, iss: string): boolean {
  const tenants = deviations?.tenants;
  if (!tenants) return iss === issuer;
  const tenant = tenantIn(issuer, tenants, iss);
  return tenant !== undefined && isAdmitted(tenants, tenant);
}

/**
 * Metadata names the issuer that was asked, compared as text: no case folding, no slash forgiven (OpenID Connect Discovery
 * 1.0 section 4.3, RFC 8414 section 3.3).
 *
 * @throws provider.issuer-mismatch
 */
export function requireNamedIssuer(tools: Tools, named: string, expected: string): void {
  check(tools, "provider.issuer-mismatch", named === expected, () => ({
    received: quoted(named),
    expected: quoted(expected),
    because: differsBecause(named, expected),
  }));
}

/** In what two issuers differ. */
export function differsBecause(received: string, expected: string): CauseOf<"provider.issuer-mismatch"> {
  const bare = (url: string) => url.replace(/\/+$/, "");
  if (bare(received) === bare(expected)) return "slash";
  if (/[{}]|%7B|%7D/i.test(received)) return "placeholder";
  if (bare(received).toLowerCase() === bare(expected).toLowerCase()) return "letters";
  const isNear = parseUrl(received)?.origin === new URL(expected).origin;
  return isNear ? "path" : "elsewhere";
}

/**
 * Endpoints on this very machine belong to an issuer that is on it, too: another one has no business there.
 *
 * @throws provider.metadata-refused
 */
export function requireNoLoopback(issuer: string, metadata: object): void {
  if (isLoopback(new URL(issuer).hostname)) return;
  for (const [name, value] of Object.entries(metadata)) {
    const isEndpoint = typeof value === "string" && /_endpoint$|^jwks_uri$/.test(name);
    if (isEndpoint && leadsHere(new URL(value).hostname))
      refuseMetadata(name, "is on this machine, and the issuer is not");
  }
}
