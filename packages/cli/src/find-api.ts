import { ProblemError } from "tenonsaw";
import type { ChosenSettings, ResolvedSignInSettings } from "tenonsaw/server";

/** An API of the settings, its provider, and what it calls itself in tokens. */
export interface FoundApi {
  readonly api: ResolvedSignInSettings["apis"][string];
  readonly provider: ResolvedSignInSettings["providers"][string];
  readonly audience: string;
}

/** @throws connection.api-unknown */
export function findApi({ settings }: ChosenSettings, name: string): FoundApi {
  const { apis, providers } = settings;
  const api = Object.hasOwn(apis, name) ? apis[name] : undefined;
  const provider = api && providers[api.provider];
  if (api && provider) return { api, provider, audience: audienceOf(settings, name) };
  const known = Object.keys(apis).filter((each) => Object.hasOwn(providers, apis[each]?.provider ?? ""));
  throw new ProblemError("connection.api-unknown", {
    received: name,
    expected: `one of the APIs in the settings that take access tokens: ${known.join(", ") || "(none)"}`,
  });
}

/** What an API calls itself: `audience` or `resource`, its own or its provider's, or else its origin. */
export function audienceOf({ apis, providers }: ResolvedSignInSettings, name: string): string {
  const { provider = "", origin = "", audience, resource } = apis[name] ?? {};
  return audience ?? resource ?? providers[provider]?.audience ?? providers[provider]?.resource ?? origin;
}
