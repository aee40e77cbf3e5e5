import { readSession } from "../session/index.js";
import type { Context } from "./context.js";

/** The session of the browser that sent a request, with its person; undefined where it has none, or none any more. */
export async function sessionOf(context: Context, request: Request): ReturnType<typeof readSession> {
  const value = context.cookies.read(request, "session");
  return value === undefined ? undefined : readSession(context, value);
}
