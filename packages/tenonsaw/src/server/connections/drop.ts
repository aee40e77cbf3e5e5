import { fail } from "../../problem/index.js";
import { note, shapeOf } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { release } from "../sessions/ending.js";
import { requirePersonId } from "../sessions/person-id.js";

/**
 * Ends a kept connection of a person's, and takes its tokens back.
 *
 * @returns false where they have none of this ID
 */
export async function dropAccount(context: Context, personId: string, id: string): Promise<boolean> {
  requirePersonId(personId);
  if (typeof id !== "string") fail("connection.none", { received: shapeOf(id), because: "not-theirs" });
  const found = await context.store.findKept(id);
  if (found?.personId !== personId) return false;
  const dropped = await context.store.dropKept(id);
  if (!dropped) return false;
  note(context.tools, "server", "disconnected", { provider: dropped.provider, connection: id });
  await release(context, [dropped]);
  return true;
}
