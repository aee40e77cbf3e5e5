import type { FoundSession } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { launchKind } from "../settings/hosts.js";
import type { Launch } from "../../session/index.js";
import { loadPart } from "../../problem/load-part.js";

/** The launch that a session has come of; undefined where it has come of none, or holds nothing of it any more. */
export async function launchOf(
  context: Context,
  found: Pick<FoundSession, "session">,
): Promise<Launch | undefined> {
  if (found.session.kind !== launchKind) return undefined;
  return (await loadPart(import("./launch-view.js"))).viewLaunch(context, found);
}
