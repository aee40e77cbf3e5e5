import { isProblem, type Platform, resolveApiUrl } from "tenonsaw";
import type { ResolvedSignInSettings } from "tenonsaw/server";
import { callBare } from "./call-bare.js";
import { createFindings, type CheckFinding } from "./finding.js";

/** Calls the declared sample of each API at a provider, without a token: is something there that asks for one? */
export async function checkSamples(
  platform: Platform,
  { apis, providers }: ResolvedSignInSettings,
  provider: string,
): Promise<readonly CheckFinding[]> {
  const findings = createFindings(provider);
  // Where a host has tenants, only a launch says where its APIs are.
  if (providers[provider]?.launch?.tenants) return findings.list;
  for (const [name, api] of Object.entries(apis)) {
    if (api.provider !== provider || api.sample === undefined) continue;
    const url = resolveApiUrl(api, api.sample);
    const about = `sample of ${name}`;
    const setting = `\`apis.${name}.origin\` and \`.sample\``;
    try {
      const { answer, looked } = await callBare(platform, url);
      if ([401, 403].includes(answer.status)) findings.good(about, looked);
      else if ([404, 410].includes(answer.status))
        findings.wrong(about, looked, `Correct ${setting}: there is nothing at this address.`);
      else if (answer.ok)
        findings.careful(
          about,
          `${looked}: it answers anybody`,
          `Name a path under \`apis.${name}.sample\` that takes a token: this one does not show whether calls work.`,
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
