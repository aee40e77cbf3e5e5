import { readSession, type FoundSession } from "../../session/index.js";
import type { Context } from "../context/context.js";

/**
 * The session of the browser that sent a request, with its person; undefined where it has none, or none any more.
 *
 * @param isUse false where a page only looks whether it is still there
 */
export function sessionOf(
  context: Context,
  request: Request,
  isUse = true,
): Promise<FoundSession | undefined> {
  const value = context.cookies.read(request, "session");
  return value === undefined ? Promise.resolve(undefined) : readSession(context, value, isUse);
}
