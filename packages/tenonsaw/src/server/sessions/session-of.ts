import { readSession, type FoundSession } from "../../session/index.js";
import type { Context } from "../context/context.js";

/** The session of the browser that sent a request, with its person; undefined where it has none, or none any more. */
export function sessionOf(context: Context, request: Request): Promise<FoundSession | undefined> {
  const value = context.cookies.read(request, "session");
  return value === undefined ? Promise.resolve(undefined) : readSession(context, value);
}
