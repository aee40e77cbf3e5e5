import { check } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { personHeader } from "../door/pass-on.js";

/**
 * What stands for a person towards pages: the same in all of their sessions, another one for everybody else, and nothing that says who
 * it is.
 */
export async function personTag({ tools }: Pick<Context, "tools">, personId: string): Promise<string> {
  const digest = await tools.platform.crypto.digestText("SHA-256", `person ${personId}`);
  return digest.slice(0, 22);
}

/**
 * A page says for whom it was drawn. Whoever is signed in by now may be somebody else: in another window, or in the very one that the
 * page has opened to ask; nothing is done or told in their name.
 *
 * @throws session.person-changed
 */
export async function requireSamePerson(context: Context, request: Request, personId: string): Promise<void> {
  const drawnFor = request.headers.get(personHeader);
  if (drawnFor === null) return;
  const current = await personTag(context, personId);
  check(context.tools, "session.person-changed", drawnFor === current, () => ({
    received: "a page that was drawn for somebody else",
  }));
}
