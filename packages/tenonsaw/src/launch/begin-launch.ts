import { beginSignIn, type Attempt, type SignInRequest } from "../attempt/index.js";
import { limits } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import type { Host, Provider } from "../provider/index.js";
import { requireCapabilities } from "./capabilities.js";
import { split } from "./scopes.js";

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
  const others = split(scope).filter((each) =>
    isFromHost ? each !== "launch" && !each.startsWith("launch/") : each !== "launch",
  );
  return [...(isFromHost ? ["launch"] : []), ...others].join(" ");
}

/** Where the host's record of the person is: `fhirUser` of the ID token, below the host's base (SMART App Launch 2.2, Scopes). */
export function resolveUser(host: Host, fhirUser: unknown): string | undefined {
  if (fhirUser === undefined) return undefined;
  if (typeof fhirUser !== "string" || !URL.canParse(fhirUser, `${host.base}/`))
    return fail("launch.context-refused", {
      received:
        typeof fhirUser === "string"
          ? `fhirUser ${quoted(fhirUser, 200)}`
          : `a fhirUser that is ${typeof fhirUser}`,
      findings: [{ path: "fhirUser", message: "is not the address of a resource" }],
    });
  return new URL(fhirUser, `${host.base}/`).href;
}
