import { authorisedFetch } from "../connection/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import { pathBelow, routes, wantsJson } from "./context/addresses.js";
import { admitRate } from "./door/admit-rate.js";
import { createContextReader, openContext } from "./open-context.js";
import { createExplain } from "./routes/explain.js";
import { isFromOwnPage } from "./door/own-page.js";
import { ask, type Wish } from "./routes/ask.js";
import { missingNeeds, type Needs } from "./sessions/admit.js";
import { route } from "./routes/route.js";
import { endAll, release } from "./sessions/ending.js";
import { sessionOf } from "./sessions/session-of.js";
import { requireApi, viewSession } from "./sessions/session-view.js";
import {
  settingPlaces,
  type SignInSettings,
  type SignInSettingsFromFile,
} from "./settings/settings-types.js";
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
  const common = await openContext(settings);
  const at = createContextReader(common);
  const explain = createExplain(common, settings[settingPlaces]);
  const { settings: resolved, providers } = common;
  const paths = routes(resolved);

  const answerAt = async (request: Request, path: string): Promise<Response> => {
    let changes: () => readonly string[] = () => [];
    const answer = async () => {
      try {
        const reached = at(request, true);
        changes = reached.changes;
        await admitRate(common.limitRate, request, path, reached.peer);
        return await route(reached.context, request, path);
      } catch (error) {
        if (!isProblem(error)) throw error;
        return explain(error, request);
      }
    };
    const { ways } = common;
    const isQuiet = ways === undefined || ["/trace", "/session"].includes(path);
    const title = `${request.method} ${resolved.basePath}${path}`;
    const response = await (isQuiet ? answer() : ways.run(title, answer));
    for (const cookie of changes()) response.headers.append("set-cookie", cookie);
    const { status, headers } = response;
    // A front end goes where it is told by itself: a redirect to another origin would fail in its own `fetch`.
    if (status === 303 && wantsJson(request)) {
      const cookies = headers.getSetCookie();
      return common.answers.json({ goTo: headers.get("location") }, 200, cookies);
    }
    return request.method === "HEAD" ? new Response(null, { status, headers }) : response;
  };

  return {
    handle(request) {
      const path = pathBelow(resolved.basePath, request.url);
      return path === undefined ? notOurs : answerAt(request, path);
    },
    answers: (address) => {
      const url = address.startsWith("/") ? resolved.origin + address : address;
      return URL.canParse(url) && pathBelow(resolved.basePath, url) !== undefined;
    },
    async session(request) {
      const { context } = at(request);
      const found = await sessionOf(context, request);
      return found && viewSession(context, found);
    },
    fetch: async (api, path, init) => common.machine.fetch(requireApi(common, api), path, init),
    async fetchFor(personId, api, path, init) {
      const declared = requireApi(common, api);
      for (const { session } of await common.store.findSessions({ personId })) {
        const connection = await common.store.findConnection(session.id, declared.provider);
        if (connection) return authorisedFetch(common, session.id, declared, path, init);
      }
      fail("connection.none", {
        received: `nobody with the ID ${quoted(personId)} at ${declared.provider}`,
      });
    },
    protect: (handler, needs) => async (request) => {
      try {
        const { context } = at(request);
        const found = await sessionOf(context, request);
        if (!found) return ask(context, request, withProvider(needs));
        const missing = needs && (await missingNeeds(context, found, needs));
        return missing ? ask(context, request, missing) : await handler(request, viewSession(context, found));
      } catch (error) {
        if (!isProblem(error)) throw error;
        return explain(error, request);
      }
    },
    fromOwnPage: (request) => isFromOwnPage(at(request).context.settings.origin, request),
    ask: (request, wish) => ask(at(request).context, request, wish),
    async forget(personId) {
      await release(common, await common.store.removePerson(personId));
    },
    async endSession(id) {
      await release(common, await common.store.endSession(id));
    },
    async endSessions(personId) {
      await release(common, (await endAll(common, { personId })).held);
    },
    explain,
    providers: providers.entries.map((entry) => ({
      ...entry,
      href: paths.begin(entry.name),
      linkPath: paths.link(entry.name),
    })),
    unlinkPath: paths.unlink,
    signOutPath: paths.signOut,
  };
}

/** Who is not signed in yet is asked for all of it at once, where it is said at which provider. */
function withProvider(needs: Needs | undefined): Wish | undefined {
  return needs?.provider === undefined ? undefined : { ...needs, provider: needs.provider };
}

const notOurs = Promise.resolve(undefined);
