import type { Identity } from "../identity/index.js";
import { limits } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import type { Granted } from "../session/index.js";
import type { Context } from "./context.js";
import { takeBack } from "./ending.js";

/** Somebody who is about to be signed in. */
export interface Visit {
  /** Name of the provider. */
  readonly provider: string;
  readonly identity: Identity;
  /** Whose the identity is; absent at a first visit. */
  readonly personId?: string;
}

/** What the app makes of a visit. */
export type Welcome =
  | {
      /**
       * At a first visit: what the person is called in the app's own user table. The identity is theirs from now on. Look
       * for issuer and subject there, never for an e-mail address: whoever may choose one at any provider would get in.
       */
      readonly personId?: string;
      /** The page they are taken to first, such as one that asks for what the provider did not tell; gets `returnTo`. */
      readonly page?: string;
    }
  /** Why not: for the trace; the visitor learns only that it did not work. */
  | { readonly refused: string };

/**
 * The one place that decides who may enter: asks the app at every sign-in.
 *
 * @throws session.person-refused, session.person-unusable
 */
export async function welcome(
  context: Context,
  name: string,
  granted: Granted,
): Promise<Exclude<Welcome, { refused: string }>> {
  const ask = context.welcome;
  if (!ask) return {};
  const { issuer, subject } = granted.identity;
  const known = await context.store.findIdentity(issuer, subject);
  const visit: Visit = {
    provider: name,
    identity: granted.identity,
    ...(known && { personId: known.personId }),
  };
  try {
    // Two tabs of one person at the same moment are one question.
    const answer = await context.leases.share(`welcome/${JSON.stringify([issuer, subject])}`, async () =>
      ask(visit),
    );
    if ("refused" in answer) fail("session.person-refused", { received: answer.refused });
    const { personId } = answer;
    if (personId !== undefined && !isUsable(personId, known?.personId)) {
      fail("session.person-unusable", {
        received: quoted(personId),
        ...(known && { expected: `${quoted(known.personId)}, whose this identity is, or no personId` }),
      });
    }
    return answer;
  } catch (error) {
    await takeBack(context, name, granted.grant);
    throw error;
  }
}

function isUsable(personId: unknown, known: string | undefined): boolean {
  if (known !== undefined) return personId === known;
  return (
    typeof personId === "string" &&
    personId.length > 0 &&
    personId.length <= limits.personId &&
    !/\p{Cc}/u.test(personId)
  );
}
