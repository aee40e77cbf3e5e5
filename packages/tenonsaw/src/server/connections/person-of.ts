import { fail } from "../../problem/index.js";
import { askApp } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { originalOf } from "../door/public-origin.js";
import { describeId, isPersonId } from "../sessions/person-id.js";
import { sessionOf } from "../sessions/session-of.js";

/**
 * Whose a request is: the person who is signed in, or where the app has its own sign-in, whoever it says.
 *
 * @throws session.person-unusable
 */
export async function personOf(context: Context, request: Request): Promise<string | undefined> {
  const { ownPersonOf } = context;
  if (!ownPersonOf) return (await sessionOf(context, request))?.session.personId;
  const personId: unknown = await askApp(context.tools, "personOf", () =>
    ownPersonOf(request, originalOf(request)),
  );
  if (personId === undefined || personId === null) return undefined;
  if (isPersonId(personId)) return personId;
  return fail("session.person-unusable", {
    received: describeId(personId),
    because: typeof personId === "number" ? "number" : "own-sign-in",
  });
}
