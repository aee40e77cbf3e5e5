import type { FoundSession, SessionNow } from "../../session/index.js";
import { routes } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { launchNamed } from "./launched.js";
import { launchOf } from "./launch-of.js";
import { sessionOf } from "./session-of.js";
import { personTag } from "./whom.js";

/** To look is not to use: a session with an idle limit ends in front of a page that nobody touches. */
export async function sessionNow(context: Context, request: Request): Promise<SessionNow> {
  const found = await sessionOf(context, request, false);
  if (!found) return { signedIn: false };
  const { settings } = context;
  const { person, session } = found;
  const known = { ...person, claims: session.claims ?? {} };
  const launch = await launchOf(context, found);
  const told = settings.toldToPages.map((name) => [name, known[name]] as const);
  const shown = Object.fromEntries(told.filter(([, value]) => value !== undefined));
  return {
    signedIn: true,
    tag: await tagOf(context, session.id, { shown, launch }),
    personTag: await personTag(context, person.id),
    endsInSeconds: Math.max(0, Math.ceil(endOf(context, found) - context.tools.platform.now())),
    provider: session.provider,
    person: shown,
    ...(launch && { launch }),
    // A launch whose key only a header carries is told nothing that way: events have none.
    ...(settings.sessionEventsSeconds !== undefined &&
      launchNamed(request) === undefined && { events: routes(settings).sessionEvents }),
  };
}

/** Another one as soon as anything that the page shows is another: a refresh may bring other claims, or a new patient. */
async function tagOf({ tools }: Context, id: string, told: object): Promise<string> {
  const digest = await tools.platform.crypto.digestText("SHA-256", JSON.stringify(told));
  return `${id.slice(0, 16)}.${digest.slice(0, 8)}`;
}

/** When it ends unless it is used: seconds since the epoch. */
function endOf({ limitsOf }: Context, { session }: FoundSession): number {
  const { createdAt, expiresAt, lastSeenAt = createdAt, kind } = session;
  const { idleSeconds } = limitsOf(kind);
  return idleSeconds === undefined ? expiresAt : Math.min(expiresAt, lastSeenAt + idleSeconds);
}
