import { ProblemError } from "../../problem/index.js";
import { readSession, type FoundSession } from "../../session/index.js";
import { note } from "../../trace/index.js";
import { beganEmpty } from "../context/began-empty.js";
import { nameOf } from "../door/address-of.js";
import type { Context } from "../context/context.js";
import { isLooking } from "../door/looking.js";
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
  const found =
    value === undefined ? undefined : await readSession(context, value, isUse && !isLooking(request));
  if (value !== undefined && found === undefined) tellUnfound(context, request, value);
  const isOfItsKind = (found?.session.kind === launchKind) === (launch !== undefined);
  return isOfItsKind ? found : undefined;
}

/** Values that somebody in development has been told of, by their app. */
const told = new WeakMap<Context["ring"], Set<string>>();

/** In development: why somebody who was signed in is not, as far as it can be told. A value is told once. */
function tellUnfound(context: Context, request: Request, value: string): void {
  const { settings, tools, openedAt, ring } = context;
  note(tools, "session", "a session cookie that fits no session");
  if (!settings.development) return;
  const before = told.get(ring) ?? new Set();
  told.set(ring, before);
  if (before.has(value) || before.size > 1000) return;
  before.add(value);
  const isForgetful = beganEmpty(context);
  const seconds = Math.round(tools.platform.monotonic() - openedAt);
  tools.report?.(
    new ProblemError("session.cookie-unknown", {
      received: `a cookie of the right form${isForgetful ? `; this process began ${seconds} s ago` : ""}`,
      because: isForgetful ? "restarted" : undefined,
    }),
    nameOf(request),
  );
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
