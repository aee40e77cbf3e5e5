import { isProblem, type Platform, resolveApiUrl } from "tenonsaw";
import type { ResolvedSignInSettings } from "tenonsaw/server";
import { callBare } from "./call-bare.js";
import { createFindings, type CheckFinding } from "./finding.js";

/** Calls the declared sample of each API at a provider, and what tells an account, without a token: is something there that asks for one? */
export async function checkSamples(
  platform: Platform,
  { apis, connections, providers }: ResolvedSignInSettings,
  provider: string,
): Promise<readonly CheckFinding[]> {
  const findings = createFindings(provider);
  // Where a host has tenants, only a launch says where its APIs are.
  if (providers[provider]?.launch?.tenants) return findings.list;
  const { confirmedBy } = connections[provider]?.account ?? {};
  const own = Object.entries(apis).filter(([, api]) => api.provider === provider);
  const places = own.flatMap(([name, api]) => [
    { about: `sample of ${name}`, setting: `\`apis.${name}.origin\` and \`.sample\``, api, path: api.sample },
    {
      about: "account of a connection",
      setting: `\`apis.${name}.origin\` and \`connections.${provider}.account.confirmedBy.path\``,
      api,
      path: confirmedBy?.api === name ? confirmedBy.path : undefined,
    },
  ]);
  for (const { about, setting, api, path } of places) {
    if (path === undefined) continue;
    const url = resolveApiUrl(api, path);
    try {
      const { answer, looked } = await callBare(platform, url);
      if ([401, 403].includes(answer.status)) findings.good(about, looked);
      else if ([404, 410].includes(answer.status))
        findings.wrong(about, looked, `Correct ${setting}: there is nothing at this address.`);
      else if (answer.ok)
        findings.careful(
          about,
          `${looked}: it answers anybody`,
          `Name a path there that takes a token: this one does not show whether calls work (${setting}).`,
        );
      else
        findings.untold(
          about,
          looked,
          `See what answers at ${setting}, and call it once with a token by tenonsaw try.`,
        );
    } catch (error) {
      if (!isProblem(error)) throw error;
      const { received = "" } = error.problem;
      findings.untold(about, received, `See whether the API runs, and whether ${setting} are right.`);
    }
  }
  return findings.list;
}
