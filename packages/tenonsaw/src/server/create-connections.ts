import { listAccounts, type AccountView } from "./connections/accounts.js";
import { callForAbsent, fetcherFor, type AccountChoice, type CallInit } from "./connections/call.js";
import { connectableOf, type Connectable } from "./connections/connectable.js";
import { dropAccount } from "./connections/drop.js";
import { personOf } from "./connections/person-of.js";
import { routes } from "./context/addresses.js";
import { createHandler, type Handler } from "./create-handler.js";
import { isFromOwnPage } from "./door/own-page.js";
import { createContextReader, openContext } from "./open-context.js";
import { fail } from "../problem/index.js";
import { noteCall } from "../trace/index.js";
import { createExplain } from "./routes/explain.js";
import { forget } from "./sessions/ending.js";
import { requireSettingsInCode } from "./settings/settings-in-code.js";
import {
  settingPlaces,
  type SignInSettings,
  type SignInSettingsFromFile,
} from "./settings/settings-types.js";

/** Connected accounts for an app that has its own sign-in. */
export interface Connections<Apis extends string = string> extends Handler {
  /**
   * Whose a request is, as `personOf` of the settings says.
   *
   * @throws session.person-unusable
   */
  personOf(request: Request): Promise<string | undefined>;
  /** What a person has connected, the newest first. */
  accounts(personId: string): Promise<readonly AccountView[]>;
  /**
   * Calls a declared API for a person, here or not, with the account that they have connected.
   *
   * @throws connection.none, connection.account-unclear, connection.other-environment, connection.ended, connection.busy,
   *   grant.*, platform.*
   */
  fetchFor(personId: string, api: Apis, path: string, init?: CallInit): Promise<Response>;
  /** A `fetch` for a client that was made for one API and takes one; the token is never to be seen. */
  fetchAt(personId: string, api: Apis, account?: AccountChoice): typeof globalThis.fetch;
  /** Ends a connection of a person's, by its `id`, and takes its tokens back; false where they have none such. */
  disconnect(personId: string, id: string): Promise<boolean>;
  /** Ends all of a person's connections: when they are removed from the app; false where they have none. */
  forget(personId: string): Promise<boolean>;
  /** Whether a request comes from a page of this app. */
  fromOwnPage(request: Request): boolean;
  /** What went wrong, as a page or for a front end as JSON; and a line in the log. */
  explain(error: unknown, request?: Request): Response;
  /** The providers whose accounts people can connect, each with where a form posts `returnTo` to. */
  readonly connectable: readonly Connectable[];
  /** Where a form posts `connection`, the ID, and `returnTo` to. */
  readonly disconnectPath: string;
  /** Where a page reads, as JSON, what the person has connected and can connect. */
  readonly accountsPath: string;
}

/** What tells whose a request is. */
export interface OwnSignIn {
  /**
   * The stable ID of the person who is signed in, in the app's own terms; undefined where nobody is. `original` is what the
   * framework knows the request as, with all that its own middleware has put there: Express's or Fastify's request, Koa's or
   * Hono's context, node:http's message.
   */
  readonly personOf: (
    request: Request,
    original: unknown,
  ) => string | undefined | Promise<string | undefined>;
}

/**
 * Puts connected accounts together, without a sign-in: the app has its own.
 *
 * @throws provider.settings-refused, provider.secret-missing, session.keys-refused, store.*
 */
export async function createConnections<Providers extends string, Apis extends string = never>(
  settings: SignInSettings<Providers, Apis> & OwnSignIn,
): Promise<Connections<Apis>>;
/** The same where the settings have several environments. */
export async function createConnections(settings: SignInSettingsFromFile & OwnSignIn): Promise<Connections>;
export async function createConnections(
  given: (SignInSettings | SignInSettingsFromFile) & OwnSignIn,
): Promise<Connections> {
  requireSettingsInCode(given, true);
  const { personOf: ownPersonOf, ...settings } = given;
  if (typeof ownPersonOf !== "function")
    fail("provider.settings-refused", {
      received: "no function that says whose a request is",
      findings: [
        { path: "personOf", message: "must be a function, of the request, that says who is signed in" },
      ],
    });
  const common = await openContext(settings, ownPersonOf);
  const at = createContextReader(common);
  const explain = createExplain(common, settings[settingPlaces]);
  const paths = routes(common.settings);
  const fetchFor: Connections["fetchFor"] = (personId, api, path, init) =>
    noteCall(callForAbsent(common, personId, api, path, init));
  return {
    ...createHandler(common, at, explain),
    personOf: (request) => personOf(at(request).context, request),
    accounts: (personId) => listAccounts(common, personId),
    fetchFor,
    fetchAt: (personId, api, account) =>
      fetcherFor(account, (path, init) => fetchFor(personId, api, path, init)),
    disconnect: (personId, id) => dropAccount(common, personId, id),
    forget: (personId) => forget(common, personId),
    fromOwnPage: (request) => isFromOwnPage(at(request).context.settings.origin, request),
    explain,
    connectable: connectableOf(common),
    disconnectPath: paths.disconnect,
    accountsPath: paths.accounts,
  };
}
