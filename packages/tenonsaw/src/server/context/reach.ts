import { ProblemError } from "../../problem/index.js";
import type { Tools } from "../../trace/index.js";
import type { ResolvedSignInSettings } from "../settings/settings-types.js";

/** So long after somebody was sent to sign in, their browser has asked for where they were sent. */
const patienceSeconds = 1;

/** Whether the sign-in routes are reached by those who are sent there. */
export interface Reach {
  /** A request has come to the routes. */
  readonly reached: () => void;
  /** Somebody is sent there. */
  readonly sent: () => void;
}

/**
 * In development, says once that an app sends people to routes that it does not answer, as where an adapter was not put into
 * it: what they see then is a page of the framework's, that there is none.
 */
export function createReach(tools: Tools, { basePath, development }: ResolvedSignInSettings): Reach {
  let isKnown = !development;
  let sentAt: number | undefined;
  return {
    reached: () => {
      isKnown = true;
    },
    sent: () => {
      const now = tools.platform.monotonic();
      sentAt ??= now;
      if (isKnown || now - sentAt < patienceSeconds) return;
      isKnown = true;
      const received = `nothing at ${basePath}, to which people were sent twice`;
      tools.report?.(new ProblemError("server.routes-unreached", { received }), "sending people to sign in");
    },
  };
}
