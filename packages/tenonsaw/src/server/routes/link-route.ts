import { fail } from "../../problem/index.js";
import { linkIdentity, type FoundSession, type Granted, type IdentityRecord } from "../../session/index.js";
import { note } from "../../trace/index.js";
import { beginAttempt } from "./begin-route.js";
import { chooserUrl, routes, withParameter } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { release, releaseLater } from "../sessions/ending.js";
import { readOwnForm } from "../door/own-form.js";
import { isProvedWithin } from "../sessions/proof.js";
import { sessionOf } from "../sessions/session-of.js";

/** Who links or unlinks has proved who they are within so many seconds, at both providers. */
export const freshSeconds = 300;

/**
 * Begins to give the person who is signed in another way to do so. They have to have signed in just now, and are asked
 * to do it again where they have not; so they are at the other provider. A POST from this app's own page: a link from
 * elsewhere could join somebody's account here to a stranger's account there.
 *
 * @throws session.other-origin, server.return-path-refused, provider.*, platform.*, store.unavailable
 */
export async function linkRoute(context: Context, request: Request, name: string): Promise<Response> {
  const { answers } = context;
  const { returnTo } = await readOwnForm(context, request, []);
  const found = await sessionOf(context, request);
  if (!found) return answers.redirect(chooserUrl(context, returnTo));
  const { session } = found;
  const again = await askForProof(context, found, returnTo);
  if (again) return again;
  const other = await context.providers.line(name);
  const wish = other.tellsWhen ? { maxAge: freshSeconds } : {};
  const begun = await beginAttempt(context, request, name, returnTo, wish, { linkSessionId: session.id });
  return answers.redirect(begun.url, begun.cookies);
}

/**
 * The other provider has said who it is: from now on that is the same person.
 *
 * @throws session.link-broken, session.identity-taken
 */
export async function finishLink(
  context: Context,
  request: Request,
  name: string,
  sessionId: string,
  granted: Granted,
): Promise<void> {
  const { tools } = context;
  // The session that asked is the session of this browser, still.
  const found = await sessionOf(context, request);
  const linked =
    found?.session.id === sessionId
      ? await linkIdentity(context, found.session, name, granted)
      : ({ kind: "gone" } as const);
  if (linked.kind === "linked") {
    releaseLater(context, linked.held);
    note(tools, "server", "linked", { provider: name });
    return;
  }
  if (linked.kind === "taken")
    fail("session.identity-taken", { received: `an account at ${name} that is known here` });
  fail("session.link-broken", { received: "another session, or none" });
}

/**
 * Takes a way to sign in away from the person who is signed in: `issuer` and `subject` in the form. They have to have
 * signed in just now, and are asked to do it again where they have not. Everybody who has signed in by it is signed out.
 *
 * @throws session.other-origin, server.return-path-refused, session.last-identity, store.unavailable
 */
export async function unlinkRoute(context: Context, request: Request): Promise<Response> {
  const { answers, settings } = context;
  const { form, returnTo } = await readOwnForm(context, request, ["issuer", "subject"]);
  const found = await sessionOf(context, request);
  if (!found) return answers.redirect(chooserUrl(context, returnTo));
  const again = await askForProof(context, found, returnTo);
  if (again) return again;
  const { personId } = found.session;
  await unlink(context, { personId, issuer: form.get("issuer") ?? "", subject: form.get("subject") ?? "" });
  return answers.redirect(settings.origin + returnTo);
}

/** Sends the person to prove who they are once more, unless they have just done so. */
async function askForProof(
  context: Context,
  { session }: FoundSession,
  returnTo: string,
): Promise<Response | undefined> {
  if (await isProvedWithin(context, session, freshSeconds)) return undefined;
  const { answers, settings, providers } = context;
  const canTell = (await providers.line(session.provider)).tellsWhen;
  const again = withParameter(routes(settings).begin(session.provider), "returnTo", returnTo);
  return answers.redirect(
    settings.origin + (canTell ? withParameter(again, "maxAge", String(freshSeconds)) : again),
  );
}

/** @throws session.last-identity */
async function unlink(
  context: Context,
  identity: Pick<IdentityRecord, "personId" | "issuer" | "subject">,
): Promise<void> {
  const names = context.providers.entries.map(({ name }) => name);
  const { store } = context;
  const held = await store.unlinkIdentity(identity, names);
  if (!held) {
    const { issuer, subject, personId } = identity;
    const whose = (await store.findIdentity(issuer, subject))?.personId;
    if (whose === personId) fail("session.last-identity", { received: "the only one left" });
    const isNamed = issuer !== "" && subject !== "";
    // Whoever presses twice, or in two tabs, finds it gone, as they wished.
    if (isNamed && whose === undefined) return;
    fail("session.last-identity", {
      received: isNamed ? "an identity of somebody else's" : "a form without `issuer` and `subject`",
      because: "not-theirs",
    });
  }
  note(context.tools, "server", "unlinked", { connections: String(held.length) });
  await release(context, held);
}
