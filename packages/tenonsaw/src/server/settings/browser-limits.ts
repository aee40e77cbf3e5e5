import { isHost } from "../../provider/index.js";
import { fail, type ProblemFinding } from "../../problem/index.js";
import type { ResolvedSignInSettings } from "./settings-types.js";

const longestSeconds = 86_400;

/**
 * Holds settings to what sessions in cookies can do.
 *
 * @throws provider.settings-refused
 */
export function requireBrowserLimits(settings: ResolvedSignInSettings): void {
  const findings: ProblemFinding[] = [];
  const refuse = (path: string, message: string) => findings.push({ path, message });
  const kinds = Object.entries(settings.sessionKinds);
  const lifetimes = [
    ["sessionLifetimeSeconds", settings.sessionLifetimeSeconds] as const,
    ...kinds.map(([name, each]) => [`sessionKinds.${name}.lifetimeSeconds`, each.lifetimeSeconds] as const),
  ];
  for (const [path, seconds] of lifetimes)
    if (seconds > longestSeconds)
      refuse(path, `must be at most ${longestSeconds} with sessions in cookies: nobody can end a copied one`);
  const idle = [
    ["sessionIdleSeconds", settings.sessionIdleSeconds] as const,
    ...kinds.map(([name, each]) => [`sessionKinds.${name}.idleSeconds`, each.idleSeconds] as const),
    ["sessionCacheSeconds", settings.sessionCacheSeconds] as const,
  ];
  for (const [path, seconds] of idle)
    if (seconds !== undefined)
      refuse(path, "must be left out with sessions in cookies: nothing is written or read there");
  for (const name of Object.keys(settings.connections))
    refuse(
      `connections.${name}`,
      "must be left out with sessions in cookies: what outlives them needs a store",
    );
  for (const [name, provider] of Object.entries(settings.providers))
    if (isHost(provider))
      refuse(
        `providers.${name}`,
        "must not be a host with sessions in cookies: launches are sessions beside each other",
      );
  for (const [name, { scope }] of Object.entries(settings.providers))
    if (scope.split(" ").includes("offline_access"))
      refuse(
        `providers.${name}.scope`,
        "must not ask for offline_access with sessions in cookies: they keep no refresh token",
      );
  if (findings.length > 0)
    fail("provider.settings-refused", {
      received: `${findings.length} that a cookie store cannot hold to`,
      findings,
    });
}
