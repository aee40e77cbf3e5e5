import type { Identity } from "../identity/index.js";
import { fail, isProblem } from "../problem/index.js";

import type { Granted } from "../session/index.js";
import { note } from "../trace/index.js";
import type { Context } from "./context.js";

/** An identity that nobody here has yet. */
export interface FirstVisit {
  /** Name of the provider. */
  readonly provider: string;
  readonly identity: Identity;
}

/** What the app makes of a first visit. */
export type Welcome =
  | {
      /**
       * What the person is called in the app's own user table. The identity is theirs from now on. Look for issuer and
       * subject there, never for an e-mail address: whoever may choose one at any provider would get in.
       */
      readonly personId?: string;
      /** The page they are taken to first, such as one that asks for what the provider did not tell; gets `returnTo`. */
      readonly page?: string;
    }
  /** Why not: for the trace; the visitor learns only that it did not work. */
  | { readonly refused: string };

/**
 * Asks the app about an identity that is nobody's yet.
 *
 * @throws session.person-refused
 */
export async function welcome(
  context: Context,
  name: string,
  granted: Granted,
): Promise<Exclude<Welcome, { refused: string }>> {
  const { issuer, subject } = granted.identity;
  if (!context.firstVisit || (await context.store.findIdentity(issuer, subject))) return {};
  const answer = await context.firstVisit({ provider: name, identity: granted.identity });
  if (!("refused" in answer)) return answer;
  await takeBack(context, name, granted);
  fail("session.person-refused", { received: answer.refused });
}

/** Tokens that nobody is going to use are taken back, where the provider can. */
export async function takeBack(
  { tools, providers }: Context,
  name: string,
  { grant }: Granted,
): Promise<void> {
  try {
    await (await providers.line(name)).revoke(grant);
  } catch (error) {
    if (!isProblem(error)) throw error;
    note(tools, "server", "tokens not revoked", { problem: error.problem.code });
  }
}
