import { patienceMilliseconds } from "./ask-server.js";
import type { Now } from "./follow-session.js";
import { leaveFor } from "./windows.js";

/**
 * Leaves a page whose session has just ended, as signing out does. Until the page is left it is nobody's, and yet nothing may be
 * begun in it: a sign-in would be overtaken by where the browser is on its way to. So it shows `unknown`, neither a person nor
 * a button.
 *
 * @param look asks anew who is signed in, where the browser stays here
 */
export function createLeaving(look: () => Promise<void>) {
  let leaving: Promise<void> | undefined;
  const leave = async (end: () => Promise<string | undefined>) => {
    try {
      const url = await end();
      const patience = new Promise((resolve) => setTimeout(resolve, patienceMilliseconds));
      if (url !== undefined) await Promise.race([leaveFor(url), patience]);
    } catch (error) {
      leaving = undefined;
      void look();
      throw error;
    }
    leaving = undefined;
    await look();
  };
  return {
    /** What is shown of what is known. */
    shown: (now: Now): Now => (leaving && now.kind === "nobody" ? { kind: "unknown" } : now),
    /** @param end ends the session; where the browser goes on to */
    leave(end: () => Promise<string | undefined>): Promise<void> {
      // Asked for twice, it is done once.
      leaving ??= leave(end);
      return leaving;
    },
  };
}
