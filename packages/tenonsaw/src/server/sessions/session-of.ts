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
  const launch = launchNamed(request);
  const value = valueOf(context, request, launch);
  const found = value === undefined ? undefined : await readSession(context, value, isUse);
  const isOfItsKind = (found?.session.kind === launchKind) === (launch !== undefined);
  return isOfItsKind ? found : undefined;
}

/** What the session of a request is found by. */
export function sessionValue(context: Pick<Context, "cookies">, request: Request): string | undefined {
  return valueOf(context, request, launchNamed(request));
}

function valueOf(
  { cookies }: Pick<Context, "cookies">,
  request: Request,
  launch: ReturnType<typeof launchNamed>,
): string | undefined {
  if (launch === undefined) return cookies.read(request, "session");
  if (launch === "unreadable") return undefined;
  const key = launch.key ?? cookies.read(request, "launch");
  return key === undefined ? undefined : launchValue(key, launch.handle);
}
