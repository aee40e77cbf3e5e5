import { wordsIn } from "../../platform/index.js";
import * as v from "valibot";
import { fail } from "../../problem/index.js";
import { ownMembers, parseSettings, refuseSettings } from "../../provider/index.js";
import { isOver, type ConnectionRecord, type FoundSession } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { connectionSettings } from "../settings/connection-settings.js";
import { settingsName, launchKind } from "../settings/hosts.js";
import { isProvedWithin } from "./proof.js";

/** What a page needs of a sign-in beyond that there is one. */
export interface Needs<Providers extends string = string> {
  /** Name of the provider that has to be connected. Default: the one signed in with. */
  readonly provider?: Providers;
  /** At most so many seconds since the person proved who they are; they are asked again where it is longer. */
  readonly maxAge?: number;
  /** How they are to prove it: values separated by spaces, one of which the provider has to have confirmed. */
  readonly acrValues?: string;
  /** What the access token has to allow, separated by spaces. */
  readonly scope?: string;
}

/** What a page was declared with: no needs at all, or some. A needs value that turned out undefined is neither. */
export type NeedsGiven<Providers extends string = string> = readonly [] | readonly [needs: Needs<Providers>];

const text = v.exactOptional(v.pipe(v.string(), v.regex(/[^ ]/, "must not be empty")));
const entries = {
  maxAge: v.exactOptional(v.pipe(v.number(), v.minValue(0))),
  acrValues: text,
  scope: text,
};

/** What throws provider.settings-refused for what nobody can have. */
export interface Judges {
  /**
   * What a page needs, as a copy that nothing changes later: it decides who sees the page, so a value that is absent, empty,
   * inherited or unknown is refused. Undefined where the page was declared without needs.
   */
  readonly readNeeds: (given: readonly unknown[]) => Needs | undefined;
  /** What a person is asked for goes to a provider that there is. */
  readonly requireWish: (wish: unknown) => void;
}

export function createJudges(names: readonly string[]): Judges {
  const provider = v.pipe(
    v.string(),
    v.check(
      (name) => names.includes(settingsName(name)),
      `must be one of the providers: ${names.join(", ")}`,
    ),
  );
  const needed = v.strictObject({ provider: v.exactOptional(provider), ...entries });
  const needs = v.object({ needs: needed });
  const wish = v.object({ wish: v.optional(v.strictObject({ provider, ...entries })) });
  return {
    readNeeds(given) {
      if (given.length === 0) return undefined;
      const [wanted] = given;
      const isRecord = typeof wanted === "object" && wanted !== null && !Array.isArray(wanted);
      const members = isRecord ? ownMembers("needs", wanted) : wanted;
      const read = Object.freeze(parseSettings(needs, { needs: members }).needs) as Needs;
      if (Object.keys(read).length === 0)
        refuseSettings({
          path: "needs",
          message: "is empty: leave it out where it is enough to be signed in",
        });
      return read;
    },
    requireWish: (given) => void parseSettings(wish, { wish: given }),
  };
}

/**
 * What of its needs a page does not find in a session: undefined where it finds all of them.
 *
 * @throws connection.scope-insufficient where the person was asked just now and the provider granted less
 */
export async function missingNeeds(
  context: Context,
  { session }: FoundSession,
  needs: Needs,
): Promise<(Needs & { readonly provider: string }) | undefined> {
  const { maxAge, acrValues, scope, provider = session.provider } = needs;
  const wish = { ...needs, provider };
  if (maxAge !== undefined && !(await isProvedWithin(context, session, maxAge)))
    return { ...wish, provider: session.provider };
  const { authenticationClass: acr } = session;
  const isOfClass = acrValues === undefined || (acr !== undefined && wordsIn(acrValues).includes(acr));
  if (!isOfClass) return { ...wish, provider: session.provider };
  if (scope === undefined && needs.provider === undefined) return undefined;
  const wanted = wordsIn(scope);
  const connection = await connectedAt(context, session, provider, wanted);
  if (!connection || isOver(connection, context.tools.platform.now())) {
    // Nobody can be asked for what a host has granted, and does no more.
    if (connection && session.kind === launchKind)
      fail("launch.ended", {
        received: `an access token of ${provider} that is over, and nothing renews it`,
      });
    return wish;
  }
  const missing = lacking(connection, wanted);
  if (missing.length === 0) return undefined;
  // Whoever was asked just now and comes back with less would be asked again at once, in a circle; a later visit asks again. What was
  // asked for stands with the connection, where every process finds it.
  const wasAsked = missing.some((each) => wordsIn(connection.notGranted).includes(each));
  const { obtainedAt, refreshCount } = connection;
  if (wasAsked && refreshCount === 0 && context.tools.platform.now() - obtainedAt < justAskedSeconds)
    fail("connection.scope-insufficient", {
      received: `a token without ${missing.join(" ")}, though the person was asked for it`,
      expected: `a token with the scope ${scope ?? ""}`,
      because: "granted-less",
    });
  return wish;
}

/** Between the end of a trip to a provider and the page that it leads back to there are seconds. */
const justAskedSeconds = 10;

function lacking({ scope }: ConnectionRecord, wanted: readonly string[]): readonly string[] {
  const granted = new Set(scope.split(" "));
  return wanted.filter((each) => !granted.has(each));
}

/** What a page's calls would be made with, as far as there is one: of several accounts one that allows enough, or else any. */
async function connectedAt(
  { store, settings, environment, tools }: Context,
  { id, personId }: FoundSession["session"],
  provider: string,
  wanted: readonly string[],
): Promise<ConnectionRecord | undefined> {
  const declared = connectionSettings(settings, provider);
  const own = !declared || declared.alsoForSignIn ? await store.findConnection(id, provider) : undefined;
  const isGood = (each: ConnectionRecord) => !isOver(each, tools.platform.now());
  if (!declared || (own && isGood(own))) return own;
  const kept = (await store.findAllKept({ personId, provider, environment })).filter(isGood);
  return kept.find((each) => lacking(each, wanted).length === 0) ?? kept[0] ?? own;
}
