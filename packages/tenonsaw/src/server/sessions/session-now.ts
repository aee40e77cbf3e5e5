import type { FoundSession, SessionNow } from "../../session/index.js";
import { routes } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { sessionOf } from "./session-of.js";

/** To look is not to use: a session with an idle limit ends in front of a page that nobody touches. */
export async function sessionNow(context: Context, request: Request): Promise<SessionNow> {
  const found = await sessionOf(context, request, false);
  if (!found) return { signedIn: false };
  const { settings } = context;
  const { person, session } = found;
  const known = { ...person, claims: session.claims ?? {} };
  const told = settings.toldToPages.map((name) => [name, known[name]] as const);
  return {
    signedIn: true,
    tag: session.id.slice(0, 16),
    endsInSeconds: Math.max(0, Math.ceil(endOf(context, found) - context.tools.platform.now())),
    provider: session.provider,
    person: Object.fromEntries(told.filter(([, value]) => value !== undefined)),
    ...(settings.sessionEventsSeconds !== undefined && { events: routes(settings).sessionEvents }),
  };
}

/** When it ends unless it is used: seconds since the epoch. */
function endOf({ limitsOf }: Context, { session }: FoundSession): number {
  const { createdAt, expiresAt, lastSeenAt = createdAt, kind } = session;
  const { idleSeconds } = limitsOf(kind);
  return idleSeconds === undefined ? expiresAt : Math.min(expiresAt, lastSeenAt + idleSeconds);
}
