import { wordsIn } from "../../platform/index.js";
import { unsealContext } from "../../connection/index.js";
import { missingScopes, readContext, told, type LaunchContext, type Remembered } from "../../launch/index.js";
import { isProblem } from "../../problem/index.js";
import type { FoundSession, Launch } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { openHost } from "../../provider/index.js";
import { providerSettingsOf } from "../settings/hosts.js";

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
    title: providers.titleOf(name),
    base: host.base,
    ...($user !== undefined && { user: $user }),
    ...($style && { style: $style }),
    scope: wordsIn(connection.scope),
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
