import { isWithin } from "../../provider/index.js";
import type { SessionRecord } from "../../session/index.js";
import type { Context } from "../context/context.js";

/**
 * Whether somebody proved who they are within so many seconds. Where a provider could say when, and does not, they did not;
 * one that cannot say has just asked them at sign-in.
 */
export async function isProvedWithin(
  { tools, providers }: Context,
  session: SessionRecord,
  seconds: number,
): Promise<boolean> {
  const { tellsWhen } = await providers.line(session.provider);
  const provedAt = session.authenticatedAt ?? (tellsWhen ? -Infinity : session.createdAt);
  return isWithin(seconds, tools.platform.now() - provedAt);
}
