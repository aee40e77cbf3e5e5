import type { ResolvedSignInSettings } from "tenonsaw/server";

/** What the settings say that is to be called at a provider's APIs, to see whether calls work. */
export function sampleOf(
  { apis }: ResolvedSignInSettings,
  provider: string,
): { readonly api: string; readonly path: string } | undefined {
  for (const [api, { provider: own, sample }] of Object.entries(apis))
    if (own === provider && sample !== undefined) return { api, path: sample };
  return undefined;
}
