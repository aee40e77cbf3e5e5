import type { Granted } from "../../session/index.js";
import { fetchStyle, readContext, resolveUser } from "../../launch/index.js";
import { note } from "../../trace/index.js";
import type { Context } from "../context/context.js";

/**
 * What a host has granted, once its context is what it has to be, with the person's record and the host's style. Where it is
 * not, nobody enters.
 *
 * @throws launch.context-refused, launch.context-missing
 */
export async function admitLaunch(context: Context, name: string, granted: Granted): Promise<Granted> {
  const provider = await context.providers.open(name);
  const { host, timeoutSeconds } = provider;
  if (!host) return granted;
  const { grant, identity } = granted;
  const members = grant.context ?? {};
  const { smartStyleUrl } = readContext(host, members, grant.scope);
  const user = host.isSmart ? resolveUser(host, identity.claims) : undefined;
  const style = smartStyleUrl && (await fetchStyle(context.tools, host, smartStyleUrl, timeoutSeconds));
  note(context.tools, "launch", "opened", { host: host.base, members: Object.keys(members).join(", ") });
  const kept = { ...members, ...(user !== undefined && { $user: user }), ...(style && { $style: style }) };
  return { ...granted, grant: { ...grant, context: kept } };
}
