import { fail, isProblem } from "../problem/index.js";
import { noteCall, noteApiAnswer, requireHandler, requireOwnAnswer } from "../trace/index.js";
import { listAccounts } from "./connections/accounts.js";
import { callForAbsent, requireApi } from "./connections/call.js";
import { connectableOf } from "./connections/connectable.js";
import { dropAccount } from "./connections/drop.js";
import { viewSession } from "./connections/session-view.js";
import { routes } from "./context/addresses.js";
import type { Context } from "./context/context.js";
import { requireServerCall } from "../connection/index.js";
import { createHandler } from "./create-handler.js";
import { createContextReader, openContext } from "./open-context.js";
import { createExplain } from "./routes/explain.js";
import { isFromOwnPage } from "./door/own-page.js";
import { ask, type Wish } from "./routes/ask.js";
import { createJudges, missingNeeds, type Needs } from "./sessions/admit.js";
import { endAll, forget, release } from "./sessions/ending.js";
import { requirePersonId, requireSessionId } from "./sessions/person-id.js";
import { sessionNow } from "./sessions/session-now.js";
import { sessionOf } from "./sessions/session-of.js";
import {
  settingPlaces,
  type SignInSettings,
  type SignInSettingsFromFile,
} from "./settings/settings-types.js";
import { framingOrigins, launchKind } from "./settings/hosts.js";
import { requireSettingsInCode } from "./settings/settings-in-code.js";
import type { SignIn } from "./sign-in.js";

/**
 * Puts sign-in together from settings.
 *
 * @throws provider.settings-refused, provider.secret-missing, session.keys-refused, store.*
 */
export async function createSignIn<Providers extends string, Apis extends string = never>(
  settings: SignInSettings<Providers, Apis>,
): Promise<SignIn<Providers, Apis>>;
/** The same where the settings have several environments: names are then looked at when they are used. */
export async function createSignIn(settings: SignInSettingsFromFile): Promise<SignIn>;
export async function createSignIn(settings: SignInSettings | SignInSettingsFromFile): Promise<SignIn> {
  requireSettingsInCode(settings, false);
  const common = await openContext(settings);
  const at = createContextReader(common);
  const explain = createExplain(common, settings[settingPlaces]);
  const { settings: resolved, providers } = common;
  const paths = routes(resolved);
  const { readNeeds, requireWish } = createJudges([
    ...Object.keys(resolved.providers),
    ...Object.keys(resolved.oauth1Providers),
  ]);

  return {
    ...createHandler(common, at, explain),
    async session(request) {
      const { context } = at(request);
      const found = await sessionOf(context, request);
      return found && viewSession(context, found);
    },
    fetch: (api, path, init) => noteCall(callAsApp(common, api, path, init)),
    fetchFor: (personId, api, path, init) => noteCall(callForAbsent(common, personId, api, path, init)),
    accounts: (personId) => listAccounts(common, personId),
    disconnect: (personId, id) => dropAccount(common, personId, id),
    protect(handler, ...given) {
      requireHandler(handler);
      const needs = readNeeds(given);
      return async (request) => {
        try {
          const { context } = at(request);
          const found = await sessionOf(context, request);
          if (!found) return ask(context, request, withProvider(needs));
          const missing = needs && (await missingNeeds(context, found, needs));
          if (missing && found.session.kind === launchKind)
            fail("connection.scope-insufficient", {
              received: `a launch from ${found.session.provider} that was not granted ${missing.scope ?? "it"}`,
              because: "launch",
            });
          return missing
            ? ask(context, request, missing)
            : requireOwnAnswer(await handler(request, viewSession(context, found)));
        } catch (error) {
          if (!isProblem(error)) throw error;
          return explain(error, request);
        }
      };
    },
    sessionNow: (request) => sessionNow(at(request).context, request),
    fromOwnPage: (request) => isFromOwnPage(at(request).context.settings.origin, request),
    ask(request, wish) {
      requireWish(wish);
      return ask(at(request).context, request, wish);
    },
    forget: (personId) => forget(common, personId),
    async endSession(id) {
      const isThere = (await common.store.findSession(requireSessionId(id))) !== undefined;
      await release(common, await common.store.endSession(id));
      return isThere;
    },
    async endSessions(personId) {
      const { held, count } = await endAll(common, { personId: requirePersonId(personId) });
      await release(common, held);
      return count;
    },
    explain,
    providers: providers.entries.map((entry) => ({
      ...entry,
      href: paths.begin(entry.name),
      linkPath: paths.link(entry.name),
    })),
    connectable: connectableOf(common),
    frameAncestors: framingOrigins(resolved),
    disconnectPath: paths.disconnect,
    accountsPath: paths.accounts,
    unlinkPath: paths.unlink,
    signOutPath: paths.signOut,
  };
}

/** As the app itself, by client credentials. */
async function callAsApp(
  context: Context,
  api: string,
  path: string,
  init: RequestInit | undefined,
): Promise<Response> {
  const declared = requireApi(context, api);
  requireServerCall(path, init);
  return noteApiAnswer(await context.machine.fetch(declared, path, init));
}

/** Who is not signed in yet is asked for all of it at once, where it is said at which provider. */
function withProvider(needs: Needs | undefined): Wish | undefined {
  return needs?.provider === undefined ? undefined : { ...needs, provider: needs.provider };
}
