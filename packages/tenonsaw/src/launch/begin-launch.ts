import { beginSignIn, type Attempt, type SignInRequest } from "../attempt/index.js";
import type { JsonObject } from "../jose/index.js";
import { parseUrl, isSecureUrl, limits, wordsIn } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { requireProvider, type Host, type Provider } from "../provider/index.js";
import { requireFit } from "../trace/index.js";
import { requireCapabilities } from "./capabilities.js";

/**
 * Begins a launch: SMART App Launch 2.2, as a sign-in with `aud` and, where the host has opened this app, `launch`. Send the
 * browser to `url` and keep `attempt`, bound to that browser, until it comes back.
 *
 * @throws launch.capability-missing, launch.parameters-refused, and what beginSignIn throws
 */
export function beginLaunch(
  provider: Provider,
  request: SignInRequest,
): Promise<{ readonly url: string; readonly attempt: Attempt }> {
  requireProvider(provider);
  requireFit(request, (given) => typeof given === "object", "what to ask for: { redirectUri, launch }");
  const { launch } = request;
  if (launch !== undefined) requireLaunchValue(launch);
  requireCapabilities(provider, launch === undefined ? "app" : "host");
  const scope = launchScope(provider.host, request.scope ?? provider.scope, launch !== undefined);
  return beginSignIn(provider, { ...request, scope });
}

/** The host's own value: anything that can be sent back, and not without end. */
export function requireLaunchValue(launch: string): void {
  if (launch !== "" && launch.length <= limits.launchValue && !/\p{Cc}/u.test(launch)) return;
  fail("launch.parameters-refused", {
    received: `launch of ${launch.length} characters`,
    expected: `launch of 1 to ${limits.launchValue} characters, none of them a control character`,
  });
}

/** The context that the host has opened the app in is asked for by `launch`; elsewhere `launch/…` has one chosen. */
export function launchScope(host: Host | undefined, scope: string, isFromHost: boolean): string {
  if (!host?.isSmart) return scope;
  const others = wordsIn(scope).filter((each) =>
    isFromHost ? each !== "launch" && !each.startsWith("launch/") : each !== "launch",
  );
  return [...(isFromHost ? ["launch"] : []), ...others].join(" ");
}

/** What a person's record can be (SMART App Launch 2.2, Scopes for requesting identity data). */
const personRecord =
  /(^|\/)(Patient|Practitioner|PractitionerRole|RelatedPerson|Person)\/(?!\.+$)[A-Za-z0-9.-]{1,64}$/;

/**
 * Where the host's record of the person is, below the host's base: `fhirUser` of the ID token, or with hosts of the first version
 * `profile`, where that is a record and no page about somebody.
 *
 * @throws launch.context-refused
 */
export function resolveUser(host: Host, { fhirUser, profile }: JsonObject): string | undefined {
  const isRecord = typeof profile === "string" && personRecord.test(profile);
  const named = fhirUser ?? (isRecord ? profile : undefined);
  if (named === undefined) return undefined;
  const isNamed = typeof named === "string" && personRecord.test(named);
  const address = (isNamed ? parseUrl(named, `${host.base}/`)?.href : undefined) ?? "";
  // An app may make a link of it.
  if (!isSecureUrl(address))
    return fail("launch.context-refused", {
      received:
        typeof named === "string" ? `fhirUser ${quoted(named, 200)}` : `a fhirUser that is ${typeof named}`,
      findings: [{ path: "fhirUser", message: "is not the address of a person's record" }],
    });
  return address;
}
