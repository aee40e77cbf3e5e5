import { wordsIn } from "../platform/index.js";
import { fail, type ProblemFinding } from "../problem/index.js";
import type { Host, Provider } from "../provider/index.js";
import { readResourceScope } from "./scopes.js";

/** Where a launch begins: in the host, or at the app. */
export type LaunchFrom = "host" | "app";

/** Something the host has to be able to do, and why. */
export interface Need {
  /** In the words of SMART App Launch 2.2, Capabilities. */
  readonly capability: string;
  readonly because: string;
}

/** What a host has to be able to do for this app: what the settings name, or what follows from them. */
export function neededCapabilities(
  { host, scope, clientAuthentication }: Pick<Provider, "clientAuthentication" | "host" | "scope">,
  from: LaunchFrom,
): readonly Need[] {
  const named = host?.launch.needs?.map((capability) => ({ capability, because: "`launch.needs` names it" }));
  if (named) return named;
  const scopes = wordsIn(scope);
  const resources = scopes.map(readResourceScope).filter((each) => each !== undefined);
  const asks = (name: string) => `the scope ${name} is asked for`;
  const when = (isSo: boolean, capability: string, because: string): Need[] =>
    isSo ? [{ capability, because }] : [];
  const kind = clientKinds[clientAuthentication];
  const isForPatient = resources.some(({ level }) => level === "patient");
  const isAtApp = from === "app";
  return [
    isAtApp
      ? { capability: "launch-standalone", because: "the launch begins at this app" }
      : { capability: "launch-ehr", because: "the launch begins in the host" },
    ...when(kind !== undefined, kind ?? "", `the client proves itself by ${clientAuthentication}`),
    ...when(scopes.includes("openid"), "sso-openid-connect", asks("openid")),
    ...when(scopes.includes("offline_access"), "permission-offline", asks("offline_access")),
    ...when(scopes.includes("online_access"), "permission-online", asks("online_access")),
    ...when(isForPatient, "permission-patient", "scopes for a patient's data are asked for"),
    ...when(
      resources.some(({ level }) => level === "user"),
      "permission-user",
      "scopes for what a person may see are asked for",
    ),
    ...when(
      resources.some(({ version }) => version === 1),
      "permission-v1",
      "scopes such as patient/Observation.read are asked for",
    ),
    ...when(
      resources.some(({ version }) => version === 2),
      "permission-v2",
      "scopes such as patient/Observation.rs are asked for",
    ),
    ...when(isForPatient && !isAtApp, "context-ehr-patient", "scopes for a patient's data are asked for"),
    ...when(
      scopes.includes("launch/patient") && isAtApp,
      "context-standalone-patient",
      asks("launch/patient"),
    ),
    ...when(
      scopes.includes("launch/encounter") && isAtApp,
      "context-standalone-encounter",
      asks("launch/encounter"),
    ),
  ];
}

const clientKinds: Readonly<Partial<Record<Provider["clientAuthentication"], string>>> = {
  none: "client-public",
  client_secret_basic: "client-confidential-symmetric",
  client_secret_post: "client-confidential-symmetric",
  private_key_jwt: "client-confidential-asymmetric",
};

/** What the host does not say that it can do, each with the reason why this app needs it. */
export function missingCapabilities(
  host: Pick<Host, "capabilities">,
  needs: readonly Need[],
): readonly ProblemFinding[] {
  return needs
    .filter(({ capability }) => !host.capabilities.includes(capability))
    .map(({ capability, because }) => ({ path: capability, message: `is not listed, and ${because}` }));
}

/**
 * Refuses a host that does not say that it can do what this app needs, with a finding for each.
 *
 * @throws launch.capability-missing
 */
export function requireCapabilities(
  provider: Pick<Provider, "clientAuthentication" | "host" | "scope">,
  from: LaunchFrom,
): void {
  const { host } = provider;
  if (!host?.isSmart) return;
  const findings = missingCapabilities(host, neededCapabilities(provider, from));
  if (findings.length === 0) return;
  fail("launch.capability-missing", {
    received: `a configuration of ${host.base} that lists ${host.capabilities.join(", ") || "nothing"}`,
    expected: `${findings.map(({ path }) => path).join(", ")} among its capabilities`,
    findings,
  });
}
