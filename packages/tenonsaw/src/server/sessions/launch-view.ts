import { unsealContext } from "../../connection/index.js";
import { missingScopes, readContext, told, type LaunchContext, type Remembered } from "../../launch/index.js";
import { isProblem } from "../../problem/index.js";
import type { FoundSession } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { openHost } from "../../provider/index.js";
import { providerSettingsOf } from "../settings/hosts.js";

/** In which context a host has opened the app: of one launch, and of no other in the same browser. */
export interface Launch extends LaunchContext {
  /** Name of the provider in the settings; with the tenant behind a dot, where its hosts have tenants. */
  readonly host: string;
  /** What people see of it. */
  readonly title: string;
  /** Where its API is: with SMART the base URL of the FHIR server. */
  readonly base: string;
  /** Where the host's record of the person is: `fhirUser`, as a whole address. */
  readonly user?: string;
  /** The host's colours and sizes by the standard's names, such as `color_background`; every value one that CSS takes. */
  readonly style?: Readonly<Record<string, string>>;
  /** What the access token allows. */
  readonly scope: readonly string[];
  /** What was asked for and not granted. */
  readonly notGranted: readonly string[];
}

export async function viewLaunch(
  context: Context,
  { session }: Pick<FoundSession, "session">,
): Promise<Launch | undefined> {
  const { settings, store, providers } = context;
  const { provider: name } = session;
  const provider = providerSettingsOf(settings, name);
  const host = provider && openHost(provider, {});
  const connection = host && (await store.findConnection(session.id, name));
  if (!connection) return undefined;
  const kept = (await unsealContext(context, connection)) ?? {};
  const { $user, $style } = kept as Remembered;
  const asked = provider.scope;
  const isLaunch = (scope: string) => /^launch(\/|$)/.test(scope);
  return {
    ...readKept(host, told(kept)),
    host: name,
    title: providers.all.find((each) => name.split(".", 1)[0] === each.name)?.title ?? name,
    base: host.base,
    ...($user !== undefined && { user: $user }),
    ...($style && { style: $style }),
    scope: connection.scope.split(" ").filter((each) => each !== ""),
    notGranted: missingScopes(asked, connection.scope).filter((each) => !isLaunch(each)),
  };
}

/** It was held to everything when it came; what a change of the settings makes of it since stops nobody. */
function readKept(
  host: Parameters<typeof readContext>[0],
  members: Parameters<typeof readContext>[1],
): LaunchContext {
  try {
    return readContext(host, members, "");
  } catch (error) {
    if (!isProblem(error)) throw error;
    return { fhirContext: [], own: {} };
  }
}
