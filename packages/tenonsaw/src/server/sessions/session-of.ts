import { readSession, type FoundSession } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { launchKind } from "../settings/hosts.js";
import { launchNamed, launchValue } from "./launched.js";

/**
 * The session of the browser that sent a request, with its person; undefined where it has none, or none any more. A request
 * that names a launch is of that launch's session and no other.
 *
 * @param isUse false where a page only looks whether it is still there
 */
export async function sessionOf(
  context: Context,
  request: Request,
  isUse = true,
): Promise<FoundSession | undefined> {
  const value = sessionValue(context, request);
  const found = value === undefined ? undefined : await readSession(context, value, isUse);
  return found && isOfItsKind(found, request) ? found : undefined;
}

/** What the session of a request is found by. */
export function sessionValue({ cookies }: Pick<Context, "cookies">, request: Request): string | undefined {
  const launch = launchNamed(request);
  if (launch === undefined) return cookies.read(request, "session");
  if (launch === "unreadable") return undefined;
  const key = launch.key ?? cookies.read(request, "launch");
  return key === undefined ? undefined : launchValue(key, launch.handle);
}

function isOfItsKind({ session }: FoundSession, request: Request): boolean {
  return (session.kind === launchKind) === (launchNamed(request) !== undefined);
}
