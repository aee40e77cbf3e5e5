import type { Renewed } from "../../connection/index.js";
import { describeAnew, pickClaims } from "../../identity/index.js";
import type { JsonObject } from "../../jose/index.js";
import { isProblem } from "../../problem/index.js";
import type { Pointers } from "../../provider/index.js";
import type { Granted } from "../../session/index.js";
import { note } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { providerSettingsOf } from "../settings/hosts.js";

/** What of the claims is kept with a session; empty where nothing is. */
function mappingOf(
  { settings }: Pick<Context, "settings">,
  name: string,
): Readonly<Record<string, Pointers>> {
  return (providerSettingsOf(settings, name) ?? settings.oauth1Providers[name])?.sessionClaims ?? {};
}

/**
 * What the settings keep of the provider's claims. Where that cannot be, nobody enters.
 *
 * @throws session.claims-too-large
 */
export function keepClaims(
  context: Pick<Context, "settings" | "tools">,
  name: string,
  { identity }: Pick<Granted, "identity">,
): JsonObject {
  const mapping = mappingOf(context, name);
  const kept = pickClaims(mapping, identity.claims);
  for (const [each, pointers] of Object.entries(mapping))
    if (!Object.hasOwn(kept, each))
      note(context.tools, "session", `${each} is not in the session's claims`, {
        why: `nothing at ${[pointers].flat().join(" or ")}`,
      });
  return kept;
}

/**
 * What is kept of the claims is what the provider says now: a role that was taken away there goes with the next refresh. The ID
 * token that came with it says so, or userinfo where that one says nothing of what is kept. Where neither can be had, or it is
 * too much, what was kept stays, and it is reported.
 */
export async function renewClaims(
  { tools, settings, store }: Pick<Context, "tools" | "settings" | "store">,
  { connection, provider, grant, idClaims, isForApi }: Renewed,
): Promise<void> {
  const mapping = mappingOf({ settings }, connection.provider);
  if (Object.keys(mapping).length === 0 || connection.sessionId === undefined) return;
  try {
    const session = (await store.findSession(connection.sessionId))?.session;
    // An account at another provider says nothing of who signed in.
    if (session?.provider !== connection.provider || session.subject !== connection.subject) return;
    const told = idClaims && pickClaims(mapping, idClaims);
    const isWhole = told !== undefined && Object.keys(told).length === Object.keys(mapping).length;
    // A token for an API is not for userinfo.
    if (isForApi && !isWhole) return;
    const pickAnew = async () => {
      const all = await describeAnew(provider, grant, connection.subject, idClaims);
      return all && pickClaims(mapping, all);
    };
    const claims = isWhole ? told : await pickAnew();
    if (!claims || JSON.stringify(claims) === JSON.stringify(session.claims ?? {})) return;
    await store.changeSession(connection.sessionId, { claims });
    note(tools, "session", "claims renewed", { names: Object.keys(claims).join(" ") });
  } catch (error) {
    if (!isProblem(error)) throw error;
    note(tools, "session", "claims not renewed", { problem: error.problem.code });
    tools.report?.(error, `the session's claims after a refresh at ${connection.provider}`);
  }
}
