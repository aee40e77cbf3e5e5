import { parseUrl } from "../platform/index.js";
import type { JsonObject } from "../jose/index.js";
import { quoted, quotedList } from "../problem/index.js";
import { check, type Tools } from "../trace/index.js";
import { refuseMetadata } from "./metadata.js";
import { baseOf, type Host } from "./is-host.js";
import type { MemberType, ResolvedProviderSettings } from "./settings-types.js";

/** SMART App Launch 2.2, Launch Context: what may come with an access token. */
const smartContext = {
  patient: "string",
  encounter: "string",
  fhirContext: "array",
  need_patient_banner: "boolean",
  intent: "string",
  smart_style_url: "string",
  tenant: "string",
} as const satisfies Record<string, MemberType>;

export function openHost(settings: ResolvedProviderSettings, metadata: JsonObject): Host {
  const { discovery, launch = {} } = settings;
  const isSmart = discovery === "smart";
  const { capabilities } = metadata;
  return {
    base: baseOf(settings),
    isSmart,
    capabilities: Array.isArray(capabilities) ? capabilities.filter((each) => typeof each === "string") : [],
    context: { ...(isSmart && smartContext), ...launch.context },
    launch,
  };
}

/**
 * A SMART configuration as metadata: SMART App Launch 2.2, Conformance. It names an issuer only where there are ID tokens; it
 * may be beside the FHIR server, and no farther than its origin unless `deviations.expectedIssuer` says so: whoever it is
 * could otherwise speak for the people of any other provider.
 *
 * @throws provider.metadata-refused, provider.issuer-mismatch
 */
export function settleSmart(
  tools: Tools,
  { issuer: base, deviations, scope }: ResolvedProviderSettings,
  found: JsonObject,
): JsonObject {
  const { issuer = base, capabilities, code_challenge_methods_supported: methods } = found;
  if (!Array.isArray(capabilities)) refuseMetadata("capabilities", "is not a list");
  if (!Array.isArray(methods) || !methods.includes("S256")) {
    const listed = quotedList(Array.isArray(methods) ? methods : []) ?? "nothing";
    refuseMetadata("code_challenge_methods_supported", `has ${listed} and not S256, which every launch uses`);
  }
  if (scope.split(" ").includes("openid") && found["jwks_uri"] === undefined)
    refuseMetadata("jwks_uri", "is missing, and the scope openid brings an ID token that is signed");
  const expected = deviations.expectedIssuer;
  const isBeside = typeof issuer === "string" && parseUrl(issuer)?.origin === new URL(base).origin;
  check(tools, "provider.issuer-mismatch", expected === undefined ? isBeside : issuer === expected, () => ({
    received: quoted(issuer),
    expected: quoted(expected ?? `an issuer at ${new URL(base).origin}`),
    because: "elsewhere" as const,
  }));
  const isForLaunches = capabilities.some((each) => String(each).startsWith("launch-"));
  return {
    ...found,
    issuer,
    // Conditional there: a host that opens no app has none, and none is ever sent to it.
    ...(found["authorization_endpoint"] === undefined &&
      !isForLaunches && { authorization_endpoint: found["token_endpoint"] }),
  };
}
